"""What one bridge port does with a frame, as two arrays over VID classes.

A *label* is how a frame looks on the wire: 0 untagged, k tagged with class k.  A *context* is where it is
inside a bridge: class 0 untagged all through (virtual and unmanaged switches only), k on VID class k.

`out[context]` is the label with which the port sends a frame of that context, -1 if it doesn't;
`into[label]` is the context of a frame that arrives so, -1 if it is dropped.  Ingress filtering is on
(IEEE 802.1Q-2022 clause 8.6.2); a priority tag counts as untagged (clause 6.9.1).
"""

from __future__ import annotations

import threading
from dataclasses import dataclass, replace

import numpy as np

from aptwire.forward.classes import UNTAGGED, Named, VidClasses, refine
from aptwire.plan import vids
from aptwire.plan.kinds import AssumedFabric, FabricPort, FabricSwitch, PortGroup, Uplink
from aptwire.plan.ports import PASSES, PortWords, said
from aptwire.plan.private import PrivatePart

Stack = tuple[int, ...]
"""The VIDs of a frame's tags, outermost first."""


@dataclass(frozen=True)
class Behaviour:
    """Everything that decides a rule: equal behaviours are one rule.

    `words` the port's own; `defined` the VIDs that its switch defines (None: all); `dead`: nothing passes; `one_way`: frames leave and
    none comes in; `apart`: its switch has isolated ports; `push` the tags that it puts on and takes off, outermost first; `away` the
    VIDs that others take off the same NICs before this port sees them; `bared`: VIDs that its switch hands to the host untagged, before this
    port of the host, on the VID `own`, sees the tag below.
    """

    words: PortWords
    defined: str | None = None
    text: str = ""
    dead: bool = False
    one_way: bool = False
    apart: bool = False
    push: Stack = ()
    away: frozenset[int] = frozenset()
    bared: frozenset[int] = frozenset()
    own: int = 0
    partial: bool = False


@dataclass(frozen=True, eq=False)
class PortRule:
    """A port's behaviour; `number` tells equal rules from others, `text` says it in a few words.

    `private`: it may send in another context than it hears; `push` the tags that it puts on every frame, outermost first, and `within` what
    the port does (`out`, `into`) with the frame below them; `single`: it drops frames with a second tag; `reflects`: frames may leave by the port that they came in by; `bared`, `own`: as in `Behaviour`; `partial`: what it drops may pass all the same,
    since nobody said what else it carries.
    """

    number: int
    out: np.ndarray
    into: np.ndarray
    text: str
    private: bool = False
    push: Stack = ()
    within: tuple[np.ndarray, np.ndarray] | None = None
    single: bool = False
    reflects: bool = False
    bared: frozenset[int] = frozenset()
    own: int = 0
    partial: bool = False


class RuleBook:
    """Makes port rules and keeps equal ones as one object."""

    def __init__(self, classes: VidClasses) -> None:
        self.classes = classes
        self.rules: list[PortRule] = []
        self._known: dict[Behaviour, PortRule] = {}
        self._lock = threading.Lock()

    def refined(self, named: Named) -> VidClasses | None:
        """Classes fine enough for what some records say; None where there is no room left for them.

        Rules that are known are brought up to the finer classes where they are.  Who holds coarser classes isn't
        disturbed: only entries of numbers that were spare change.
        """
        with self._lock:
            finer = refine(self.classes, named)
            if finer is not None and finer is not self.classes:
                self.classes = finer
                for behaviour, rule in self._known.items():
                    fresh = self._make(behaviour)
                    rule.out[:] = fresh.out
                    rule.into[:] = fresh.into
                    if rule.within is not None and fresh.within is not None:
                        rule.within[0][:], rule.within[1][:] = fresh.within
            return finer

    def rule(self, behaviour: Behaviour) -> PortRule:
        """The rule of a behaviour."""
        known = self._known.get(behaviour)
        if known is None:
            with self._lock:
                known = self._known.get(behaviour)
                if known is None:
                    known = self._make(behaviour)
                    self.rules.append(known)
                    self._known[behaviour] = known
        return known

    def _make(self, behaviour: Behaviour) -> PortRule:
        words = behaviour.words
        out, into = self._arrays(behaviour)
        within = None
        if behaviour.push:
            within = out, into
            out, into = self._pushed(behaviour.push, out, into)
        directed = len(words.bare) > 1 or (words.pvid is not None and words.bare not in ({words.pvid}, set()))
        return PortRule(
            number=len(self.rules),
            out=out,
            into=into,
            text=behaviour.text or words.text,
            private=directed or behaviour.apart,
            push=behaviour.push,
            within=within,
            single=words.admits == "untagged",
            reflects=words.reflects,
            bared=behaviour.bared,
            own=behaviour.own,
            partial=behaviour.partial,
        )

    def _arrays(self, behaviour: Behaviour) -> tuple[np.ndarray, np.ndarray]:
        """int16[classes] twice: `out` and `into`."""
        classes, words = self.classes, behaviour.words
        numbers = np.arange(classes.count, dtype=np.int16)
        out = np.where(self._passing(words.gives), numbers, -1).astype(np.int16)
        into = np.where(self._passing(words.takes), numbers, -1).astype(np.int16)
        out[classes.of[sorted(words.bare)]] = UNTAGGED
        if words.pvid is not None:
            into[UNTAGGED] = classes.of[words.pvid]
        if behaviour.away:
            into[classes.of[sorted(behaviour.away)]] = -1
        if behaviour.defined is not None:
            known = classes.mask(behaviour.defined)
            out[~known] = -1
            into[(into >= 0) & ~known[into]] = -1
        if behaviour.apart:
            self._separate(words.isolated, out, into)
        if behaviour.dead:
            out[:] = -1
        if behaviour.dead or behaviour.one_way:
            into[:] = -1
        return out, into

    def _pushed(self, push: Stack, out: np.ndarray, into: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """What one tag shows of a port that puts tags on: a frame that bears a tag below leaves with two, which arrays don't carry."""
        outside, inside = np.full_like(out, -1), np.full_like(into, -1)
        if len(push) == 1:
            label = self.classes.of[push[0]]
            outside[out == UNTAGGED] = label
            inside[label] = into[UNTAGGED]
        return outside, inside

    def _passing(self, allowed: str | None) -> np.ndarray:
        """bool[classes]: what passes tagged; never class 0, nor a twin."""
        passes = np.ones(self.classes.count, dtype=bool) if allowed is None else self.classes.mask(allowed)
        passes[UNTAGGED] = False
        passes[self.classes.plain :] = False
        return passes

    def _separate(self, isolated: bool, out: np.ndarray, into: np.ndarray) -> None:
        """An isolated port sends in the twins, which all others hear."""
        plain = self.classes.plain
        if isolated:
            into[into >= 0] += plain
        else:
            out[plain:] = out[:plain]

    # --- the ports of records ---------------------------------------------------------------------------------

    def words(self, words: PortWords, apart: bool = False) -> PortRule:
        """A port in the standard's own words; `apart`: its switch has isolated ports."""
        return self.rule(Behaviour(words, apart=apart))

    def _private(self, part: PrivatePart, vid: int, flags: PortWords, apart: bool, defined: str | None) -> PortRule:
        """A private port (RFC 5517 section 3): it sends in its own VLAN and hears those that may speak to it."""
        hears = {
            "promiscuous": (part.primary, *part.secondaries),
            "isolated": (part.primary,),
            "community": (part.primary, vid),
        }[part.type]
        words = replace(flags, pvid=vid, takes="", gives="", bare=frozenset(hears), admits="untagged", text="")
        return self.rule(Behaviour(words, defined, f"private {vid}, {part.type}", apart=apart))

    def port_group(
        self, group: PortGroup, part: PrivatePart | None = None, words: PortWords | None = None, apart: bool = False
    ) -> PortRule:
        """The port of an adapter in this port group on a switch that filters.

        `part` is a private one's part in its private VLAN; `words` what an adapter's own port says; `apart`: the switch has isolated ports.
        """
        words = words or said(group)
        if group.mode == "overlay":
            return self.words(replace(words, text=f"overlay {group.vni}"))
        if part is not None and group.mode == "private":
            return self._private(part, group.vid or 0, words, apart, None)
        return self.words(words, apart)

    def unfiltered(self, words: PortWords, apart: bool = False) -> PortRule:
        """A port of a virtual switch that doesn't filter: of its own words, isolation and reflection alone count."""
        return self.words(replace(PASSES, isolated=words.isolated, reflects=words.reflects), apart)

    def function(self, vid: int | None) -> PortRule:
        """The port of a direct adapter: its NIC puts the VID on, or passes all."""
        if vid:
            return self.words(_on(vid, f"virtual function, VID {vid}"))
        return self.words(replace(PASSES, text="virtual function"))

    def host_port(
        self, vid: int | None, apart: bool = False, bared: str | None = None, tagged: bool = False
    ) -> PortRule:
        """A host port: the hypervisor sits untagged on the switch's context.

        `bared`: the VIDs that the switch hands to the host untagged; `tagged`: what sits on it takes the VID off by itself, so that frames may
        bear tags below it.
        """
        if vid is None:
            return self.words(_on(0, "untagged"), apart)
        words = PortWords(takes=str(vid), gives=str(vid), text=f"VID {vid}") if tagged else _on(vid, f"VID {vid}")
        return self.rule(Behaviour(words, apart=apart, bared=vids.members(bared or "") - {vid}, own=vid))

    def uplink(
        self,
        uplink: Uplink,
        wireless: bool = False,
        one_way: bool = False,
        filters: bool = True,
        apart: bool = False,
        push: Stack = (),
        away: frozenset[int] = frozenset(),
    ) -> PortRule:
        """The uplink of a virtual switch; without an allowed list it lets everything through.

        `wireless`: over a NIC that carries no tags.  `one_way`: over a NIC that drops what comes back.  `filters`: whether the switch
        does.  `push`, `away`: as in `Behaviour`.
        """
        words = said(uplink)
        if wireless:
            native = uplink.native or 0
            text = "wireless, untagged only"
            words = PortWords(native, "", "", frozenset([native]), "untagged", words.isolated, words.reflects, text)
        elif not filters:
            words = replace(PASSES, isolated=words.isolated, reflects=words.reflects, text=words.text)
        text = f"tag {' in tag '.join(map(str, push[::-1]))}" if push else ""
        return self.rule(Behaviour(words, text=text, one_way=one_way, apart=apart, push=push, away=away))

    def fabric_port(
        self, switch: FabricSwitch, port: FabricPort, part: PrivatePart | None = None, apart: bool = False
    ) -> PortRule:
        """A physical port; one of an unmanaged switch passes tags unseen."""
        words = said(port)
        if not port.enabled:
            return self.rule(Behaviour(PortWords(), text="disabled", dead=True))
        if not switch.managed:
            text = "unmanaged, passes every tag"
            return self.words(replace(PASSES, isolated=words.isolated, reflects=words.reflects, text=text), apart)
        if part is not None and port.mode == "private":
            return self._private(part, port.vid or 0, words, apart, switch.vlans)
        text = f"{words.text}, and perhaps more" if port.partial else ""
        return self.rule(Behaviour(words, switch.vlans, text, apart=apart, partial=port.partial))

    def unknown(self, switch: FabricSwitch) -> PortRule:
        """The ports of a switch that the plan doesn't know: they may carry whatever the switch defines."""
        words = PortWords(takes=None, gives=None, text="ports that the plan doesn't know")
        return self.rule(Behaviour(words, switch.vlans))

    def assumed(self, assumed: AssumedFabric) -> PortRule:
        """A port of an assumed fabric."""
        bare = frozenset() if assumed.native is None else frozenset([assumed.native])
        text = f"assumed to carry {assumed.allowed}"
        return self.words(PortWords(assumed.native, assumed.allowed, assumed.allowed, bare, text=text))

    def wire(self, one_way: bool = False) -> PortRule:
        """The middle of a cable between two hosts: everything passes.  `one_way`: away from the bridge only."""
        return self.rule(Behaviour(PASSES, text="a cable", one_way=one_way))

    # --- one frame, with all its tags -------------------------------------------------------------------------

    def enter(self, rule: PortRule, stack: Stack) -> tuple[int, int, Stack] | None:
        """Where a frame with these tags gets to at a port: (context, VID of that context, the tags below); None: dropped.

        A priority tag (VID 0) counts as untagged (clause 6.9.1).  What arrives with several tags is classified by the outermost.
        """
        into = rule.into
        if rule.within is not None:
            if stack[: len(rule.push)] != rule.push:
                return None
            stack, into = stack[len(rule.push) :], rule.within[1]
        vid, below = (stack[0], stack[1:]) if stack else (0, ())
        label = int(self.classes.of[vid])
        context = int(into[label]) if label >= 0 and not (rule.single and below) else -1
        if context < 0:
            return None
        same = int(self.classes.base[context]) == label
        return context, vid if same else self.classes.vid(context), below

    def leave(self, rule: PortRule, context: int, vid: int, below: Stack) -> Stack | None:
        """The tags with which a frame leaves a port; None: it doesn't.  An untagged exit takes one tag off, and the next one shows."""
        label = int((rule.out if rule.within is None else rule.within[0])[context])
        if label < 0:
            # The switch takes the outer tag off, and the host sorts by the one below (seen in the kernel).
            if vid not in rule.bared or below[:1] != (rule.own,):
                return None
            return below[1:] if rule.out[self.classes.of[rule.own]] == UNTAGGED else below
        return (*rule.push, *below) if label == UNTAGGED else (*rule.push, vid, *below)


def _on(vid: int, text: str) -> PortWords:
    """A port on one VID (0: untagged all through) that takes and sends untagged frames only."""
    return PortWords(vid, "", "", frozenset([vid]), "untagged", text=text)
