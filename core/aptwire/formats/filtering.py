"""What a Linux host lets through and translates between its interfaces: `nft --json list ruleset`, as libnftables-json(5) describes it.

Of the ruleset those chains are read that see what is forwarded (hook forward) and what is translated as it leaves (hook postrouting)
or comes in (hook prerouting).  A rule that says
more than a filter line can becomes a line of which nobody knows what it does, for whatever of it could be read: a packet that it may speak of is let through surely by none.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase
from itertools import product
from typing import TYPE_CHECKING, Any

from aptwire.formats.shape import Shape, shapes
from aptwire.plan.fields import MOST_LISTED, bare_address
from aptwire.plan.file import read_json
from aptwire.plan.filters import speak_alike
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import FilterLine, HostPort, InwardTranslation, Translation, VirtualSwitch
from aptwire.plan.plan import PlanError, Problem

if TYPE_CHECKING:
    from aptwire.formats.making import Records
    from aptwire.formats.observed import Device

RULESET = "nft.json"
ALLOW, DENY, UNKNOWN = "allow", "deny", "unknown"
EVERYTHING = {"ip": "0.0.0.0/0", "ip6": "::/0"}
ANSWERS = {"established", "related"}
AROUND = ("ingress", "prerouting", "postrouting", "egress")
"""Where chains see packets that are forwarded, beside the hook for these."""
NEUTRAL = {"counter", "log", "comment", "notrack", "mangle", "ct count", "last"}
"""Statements that change nothing about where a packet gets."""
PROTOCOLS = {
    "tcp": "tcp",
    "udp": "udp",
    "icmp": "icmp",
    "ipv6-icmp": "icmp",
    "icmpv6": "icmp",
    6: "tcp",
    17: "udp",
    1: "icmp",
    58: "icmp",
}
ICMP = {"ip": ("icmp", 1), "ip6": ("ipv6-icmp", "icmpv6", 58)}
DEEPEST = 16
"""Chains that jump to each other further than this aren't read."""


@dataclass(frozen=True)
class Line:
    """What becomes of packets that come in and go out by some interfaces (names; none: any) between some subnets (none: any), of a protocol, to some ports."""

    action: str
    enters: tuple[str, ...] = ()
    leaves: tuple[str, ...] = ()
    sources: tuple[str, ...] = ()
    targets: tuple[str, ...] = ()
    protocol: str = "any"
    ports: str = ""


@dataclass(frozen=True)
class Masking:
    """That what leaves by some interfaces (names; none: any) from some subnets (none: any) goes on with the interface's own address."""

    leaves: tuple[str, ...]
    sources: tuple[str, ...]


@dataclass(frozen=True)
class Turning:
    """That what comes in by interfaces (names) for an address `asked`, of a protocol (any) at some ports (empty: any), is for another one (`to`), at a `port` of that
    (None: the same)."""

    enters: tuple[str, ...]
    asked: str
    protocol: str
    ports: str
    to: str
    port: int | None


@dataclass(frozen=True)
class Filtering:
    """What a host's ruleset says: its `lines` in order, what it translates, outwards and inwards (`turned`), `unread` in words, and whether it drops frames that its bridges pass on (`bridged`)."""

    lines: tuple[Line, ...] = ()
    masks: tuple[Masking, ...] = ()
    turned: tuple[Turning, ...] = ()
    unread: tuple[str, ...] = ()
    bridged: bool = False


def read_filtering(raw: bytes, place: str, largest: int) -> Filtering:
    """A ruleset; PlanError names the place of what has another shape."""
    found = read_json(raw, place, largest)
    if not isinstance(found, dict):
        raise PlanError([Problem("should be an object", place=place)])
    return _Reading(shapes(found.get("nftables"), f"{place}, nftables")).told()


class _Unread(Exception):
    """A statement that a line can't say."""


Chain = tuple[str, str, str]
"""Family, table and name."""


@dataclass(frozen=True)
class _Base:
    """A chain that the kernel enters: of which `type`, where (`hook`), and whether what no rule decides on is dropped."""

    key: Chain
    type: str
    hook: str
    drops: bool


@dataclass
class _Met:
    """What a rule matches: as Line has it (None: any), the protocols, the states of connections, and whether some of it couldn't be read."""

    enters: tuple[str, ...] | None = None
    leaves: tuple[str, ...] | None = None
    sources: tuple[str, ...] | None = None
    targets: tuple[str, ...] | None = None
    protocols: frozenset[str] | None = None
    ports: str | None = None
    family: str | None = None
    states: frozenset[str] | None = None
    unread: list[str] = field(default_factory=list)
    never: bool = False

    def narrow(self, name: str, value: Any) -> None:
        """Takes in a match of its own; two that differ are more than a line says."""
        known = getattr(self, name)
        if known is not None and known != value:
            self.unread.append(f"two matches of {name}")
        else:
            setattr(self, name, value)

    def copy(self) -> _Met:
        """Another one that begins where this one is."""
        return replace(self, unread=list(self.unread))


class _Reading:
    def __init__(self, entries: Iterable[Shape]) -> None:
        self.bases: list[_Base] = []
        self.rules: dict[Chain, list[Shape]] = {}
        self.sets: dict[Chain, list[Any]] = {}
        self.unread: list[str] = []
        for entry in entries:
            if "chain" in entry.data:
                self._chain(entry.part("chain"))
            elif "rule" in entry.data:
                rule = entry.part("rule")
                key = (rule.text("family", None), rule.text("table", None), rule.text("chain", None))
                self.rules.setdefault(key, []).append(rule)
            elif "set" in entry.data:
                found = entry.part("set")
                listed = found.data.get("elem", [])
                if not isinstance(listed, list):
                    found.refuse("elem", "should be a list")
                self.sets[self._key(found)] = self._elements(listed)

    @staticmethod
    def _key(shape: Shape) -> Chain:
        return shape.text("family", None), shape.text("table", None), shape.text("name", None)

    @staticmethod
    def _elements(listed: list[Any]) -> list[Any]:
        """The elements of a set; one with a comment or a time is an object around it."""
        inner = ((one["elem"] if isinstance(one, dict) and "elem" in one else one) for one in listed)
        return [one["val"] if isinstance(one, dict) and "val" in one else one for one in inner]

    def _chain(self, chain: Shape) -> None:
        hook = chain.text("hook", "")
        if hook:
            drops = chain.text("policy", "accept") == "drop"
            self.bases.append(_Base(self._key(chain), chain.text("type", ""), hook, drops))

    def told(self) -> Filtering:
        """What was read."""
        lines: list[Line] = []
        masks: list[Masking] = []
        turned: list[Turning] = []
        for family in EVERYTHING:
            bases = [b for b in self.bases if b.key[0] in (family, "inet") and b.hook == "forward" and self._does(b)]
            if len(bases) > 1:
                names = ", ".join(sorted(" ".join(b.key[1:]) for b in bases))
                self.unread.append(f"{len(bases)} chains that filter what is forwarded ({names}): none is read")
                lines.append(Line(UNKNOWN, targets=(EVERYTHING[family],)))
            for base in bases if len(bases) == 1 else ():
                lines += self._filter(base, family)
        lines = list(dict.fromkeys([*self._beside(), *lines]))
        for base in (b for b in self.bases if b.type == "nat" and b.key[0] in ("ip", "inet") and self.rules.get(b.key)):
            if base.hook == "postrouting":
                for rule in self.rules[base.key]:
                    self._mask(base, rule, masks, lines)
            elif base.hook == "prerouting":
                turned += self._turn(base)
        if any(b.hook == "input" and b.key[0] in (*EVERYTHING, "inet") and self._does(b) for b in self.bases):
            self.unread.append("what it lets in to itself, which a plan doesn’t hold")
        bridged = any(b.key[0] in ("bridge", "netdev", "arp") and self._does(b) for b in self.bases)
        return Filtering(tuple(lines), tuple(masks), tuple(turned), tuple(dict.fromkeys(self.unread)), bridged)

    def _does(self, base: _Base) -> bool:
        """Whether a chain may do anything to a packet."""
        return base.drops or bool(self.rules.get(base.key))

    def _beside(self) -> Iterator[Line]:
        """What isn't known since chains that see packets before they are forwarded, or after, do more than pass them on."""
        for base in self.bases:
            family, *name = base.key
            if base.type == "nat" or base.hook not in AROUND or family not in (*EVERYTHING, "inet"):
                continue
            said = {word for rule in self.rules.get(base.key, []) for one in rule.parts("expr") for word in one.data}
            if base.drops or said - NEUTRAL - {"match", "accept"}:
                self.unread.append(
                    f"{' '.join(name)}: it sees what is forwarded too, and isn’t read; so that isn’t known"
                )
                families = EVERYTHING if family == "inet" else (family,)
                yield from (Line(UNKNOWN, targets=(EVERYTHING[one],)) for one in families)

    # --- filters ----------------------------------------------------------------------------------------------

    def _filter(self, base: _Base, family: str) -> list[Line]:
        """The lines of a chain for packets of one family."""
        made: list[tuple[Line, bool]] = []
        answers = self._walk(base.key, _Met(), family, made, 0, False)
        lines = [line for line, _ in made]
        end = Line(DENY if base.drops else ALLOW, targets=(EVERYTHING[family],))
        if base.drops:
            lines.append(end)
        # A line that may drop before answers are let through may drop some of them: then nobody knows of any that they get back.
        early = any(line.action != ALLOW and not before for line, before in [*made, (end, answers)])
        if early:
            self.unread.append(
                f"{' '.join(base.key[1:])}: it doesn’t let answers back in before it drops anything, so what gets one isn’t known"
            )
            lines = [replace(line, action=UNKNOWN) if line.action == ALLOW else line for line in lines]
            lines += [] if base.drops else [replace(end, action=UNKNOWN)]
        return lines

    def _walk(
        self, chain: Chain, outer: _Met, family: str, made: list[tuple[Line, bool]], depth: int, answers: bool
    ) -> bool:
        """The lines of a chain's rules for what `outer` matches, each with whether answers were let through before; and whether they are after it."""
        for rule in self.rules.get(chain, []):
            met = outer.copy()
            verdict: tuple[str, Any] | None = None
            for statement in rule.parts("expr"):
                [(name, said)] = list(statement.data.items())[:1] or [("", None)]
                if name == "match":
                    self._match(chain, statement.part("match"), met, family)
                elif name == "vmap" and self._lets_answers(said) and not _narrowed(met):
                    answers = True
                    met.never = True
                elif name in ("accept", "drop", "reject", "jump", "goto", "return", "queue"):
                    verdict = name, said
                elif name not in NEUTRAL:
                    met.unread.append(name)
            if verdict is None and not met.unread:
                continue
            if met.never or (met.family or family) != family or met.states == frozenset({"invalid"}):
                continue
            name, said = verdict or ("", None)
            if met.states is not None and "new" not in met.states:
                if name == "accept" and met.states <= ANSWERS and not _narrowed(met):
                    answers = True
                    continue
                met.unread.append("states of connections")
            if name == "jump" and not met.unread and depth < DEEPEST and isinstance(said, dict):
                answers = self._walk(
                    (*chain[:2], str(said.get("target"))), replace(met, states=None), family, made, depth + 1, answers
                )
                continue
            action = {"accept": ALLOW, "drop": DENY, "reject": DENY}.get(name, UNKNOWN)
            if met.unread or action == UNKNOWN:
                what = ", ".join(dict.fromkeys(met.unread)) or name
                self.unread.append(f"{' '.join(chain[1:])}: a rule with {what}; what it speaks of isn’t known")
                action = UNKNOWN
            made += [(line, answers) for line in _lines(action, met, family)]
        return answers

    @staticmethod
    def _lets_answers(said: Any) -> bool:
        """Whether a verdict map lets answers through and says nothing of what is new."""
        if (
            not isinstance(said, dict)
            or said.get("key") != {"ct": {"key": "state"}}
            or not isinstance(said.get("data"), dict)
        ):
            return False
        pairs = said["data"].get("set", [])
        paired = isinstance(pairs, list) and all(isinstance(p, list) and len(p) == 2 for p in pairs)
        if not paired or not all(isinstance(verdict, dict) for _, verdict in pairs):
            return False
        states = {str(state): set(verdict) for state, verdict in pairs}
        rest = states.keys() - ANSWERS - {"invalid"}
        return states.get("established") == {"accept"} and not rest

    def _match(self, chain: Chain, match: Shape, met: _Met, family: str) -> None:
        """Takes a match into what a rule matches."""
        left, right = match.data.get("left"), match.data.get("right")
        try:
            if match.text("op", "==") not in ("==", "in") or not isinstance(left, dict):
                raise _Unread
            values = self._values(chain, right)
            if "meta" in left:
                self._meta(str(left["meta"].get("key")), values, met, family)
            elif "ct" in left and left["ct"].get("key") == "state":
                met.states = frozenset(map(str, values))
            elif "payload" in left:
                self._payload(left["payload"], values, met, family)
            else:
                raise _Unread
        except (_Unread, ValueError, TypeError, AttributeError, KeyError):
            met.unread.append(f"a match of {_words(left)}")

    def _values(self, chain: Chain, right: Any) -> list[Any]:
        """The values of a match's right side."""
        if isinstance(right, str) and right.startswith("@"):
            found = self.sets.get((*chain[:2], right[1:]))
            if found is None:
                raise _Unread
            return found
        if isinstance(right, dict) and "set" in right:
            return self._elements(right["set"] if isinstance(right["set"], list) else [right["set"]])
        return right if isinstance(right, list) else [right]

    @staticmethod
    def _meta(key: str, values: list[Any], met: _Met, family: str) -> None:
        if key in ("iifname", "iif", "oifname", "oif"):
            met.narrow("enters" if key.startswith("i") else "leaves", tuple(sorted(map(str, values))))
        elif key in ("l4proto", "protocol"):
            if key == "protocol":
                met.narrow("family", {"ip": "ip", "ip6": "ip6"}[values[0]] if len(values) == 1 else None)
            else:
                _speak(values, met, family)
        elif key == "nfproto":
            met.narrow("family", {"ipv4": "ip", "ipv6": "ip6"}[values[0]] if len(values) == 1 else None)
        else:
            raise _Unread

    @staticmethod
    def _payload(payload: Mapping[str, Any], values: list[Any], met: _Met, family: str) -> None:
        protocol, of = payload.get("protocol"), payload.get("field")
        if protocol in EVERYTHING and of in ("saddr", "daddr"):
            nets = tuple(str(net) for value in values for net in _nets(value))
            if len(nets) > MOST_LISTED:
                raise _Unread
            met.narrow("family", protocol)
            met.narrow("sources" if of == "saddr" else "targets", nets)
            met.never = met.never or not nets
        elif (protocol, of) in (("ip", "protocol"), ("ip6", "nexthdr")):
            met.narrow("family", protocol)
            _speak(values, met, family)
        elif protocol in ("tcp", "udp", "th") and of == "dport":
            if protocol != "th":
                met.narrow("protocols", frozenset({protocol}))
            elif met.protocols is None or not met.protocols <= {"tcp", "udp"}:
                raise _Unread
            met.narrow("ports", ", ".join(map(_ports, values)))
        elif protocol in ("icmp", "icmpv6") and of == "type":
            met.narrow("family", "ip" if protocol == "icmp" else "ip6")
            met.narrow("protocols", frozenset({"icmp"}))
            # Of all that it says, pings are asked with the one question.
            met.never = met.never or "echo-request" not in values
        else:
            raise _Unread

    # --- translations -----------------------------------------------------------------------------------------

    def _turn(self, base: _Base) -> Iterator[Turning]:
        """What a chain translates on its way in, up to the first rule that says more than a plan holds: those after it may never be asked."""
        for rule in self.rules[base.key]:
            met, said = _Met(), list[Any]()
            for statement in rule.parts("expr"):
                name = next(iter(statement.data), "")
                if name == "match":
                    self._match(base.key, statement.part("match"), met, "ip")
                elif name == "dnat":
                    said.append(statement.data[name])
                elif name not in NEUTRAL:
                    met.unread.append(name)
            if met.family == "ip6" or (not said and not met.unread):
                continue
            turned = _turning(met, said[0]) if len(said) == 1 else None
            if turned is None:
                told = "what it translates on its way in from some rule on, which a plan doesn’t hold"
                self.unread.append(f"{' '.join(base.key[1:])}: {told}")
                return
            yield turned

    def _mask(self, base: _Base, rule: Shape, masks: list[Masking], lines: list[Line]) -> None:
        """Takes in what a rule translates; of what it says otherwise nobody knows what becomes."""
        met, masked = _Met(), False
        for statement in rule.parts("expr"):
            name = next(iter(statement.data), "")
            if name == "match":
                self._match(base.key, statement.part("match"), met, "ip")
            elif name == "masquerade":
                masked = True
            elif name not in NEUTRAL:
                met.unread.append(name)
        if met.family == "ip6":
            return
        if masked and met.family is None and base.key[0] == "inet":
            # IPv6 too, which a plan doesn't translate.
            lines.insert(0, Line(UNKNOWN, leaves=met.leaves or (), targets=(EVERYTHING["ip6"],)))
        simple = not (met.unread or met.enters or met.targets or met.protocols or met.ports or met.states)
        if masked and simple:
            masks.append(Masking(met.leaves or (), met.sources or ()))
        elif masked or met.unread:
            self.unread.append(
                f"{' '.join(base.key[1:])}: a translation with more than a plan holds; what it speaks of isn’t known"
            )
            lines[:0] = list(_lines(UNKNOWN, met, "ip"))


def _turning(met: _Met, said: Any) -> Turning | None:
    """An inward translation as a plan holds it: at named interfaces, of what is for one address there, to one other; None where it says anything else."""
    more = met.unread or met.leaves or met.sources or met.states or met.never or not isinstance(said, dict)
    nets = [ipaddress.ip_network(target) for target in met.targets or ()]
    protocols = sorted(met.protocols or {"any"})
    if more or not met.enters or len(nets) != 1 or nets[0].num_addresses > 1 or len(protocols) > 1:
        return None
    to, port = said.get("addr"), said.get("port")
    if not isinstance(to, str) or not isinstance(port, int | None) or set(said) - {"addr", "port", "family"}:
        return None
    if protocols[0] not in ("any", "tcp", "udp") or (port and protocols[0] == "any"):
        return None
    try:
        ipaddress.IPv4Address(to)
    except ValueError:
        return None
    return Turning(met.enters, str(nets[0].network_address), protocols[0], met.ports or "", to, port)


def _narrowed(met: _Met) -> bool:
    """Whether a rule speaks of some packets alone."""
    return any(
        one is not None for one in (met.enters, met.leaves, met.sources, met.targets, met.protocols, met.ports)
    ) or bool(met.unread)


def _speak(values: list[Any], met: _Met, family: str) -> None:
    """Takes in protocols; ICMP is of IPv4 alone, and ICMPv6 of IPv6."""
    if not all(value in PROTOCOLS for value in values):
        raise _Unread
    other = ICMP["ip6" if family == "ip" else "ip"]
    known = frozenset(PROTOCOLS[value] for value in values if value not in other)
    met.narrow("protocols", known)
    met.never = met.never or not known


def _lines(action: str, met: _Met, family: str) -> Iterator[Line]:
    """The lines of what a rule matches: one for each protocol."""
    # Only packets of one family get to its chain.
    anywhere = () if met.sources or met.targets else (EVERYTHING[family],)
    for protocol in sorted(met.protocols) if met.protocols else ("any",):
        ports = met.ports if protocol in ("tcp", "udp") else None
        yield Line(
            action,
            met.enters or (),
            met.leaves or (),
            met.sources or (),
            met.targets or anywhere,
            protocol,
            ports or "",
        )


def _nets(value: Any) -> Iterator[ipaddress.IPv4Network | ipaddress.IPv6Network]:
    """The subnets of an address, a prefix or a range."""
    if isinstance(value, dict) and "prefix" in value:
        yield ipaddress.ip_network(f"{value['prefix']['addr']}/{value['prefix']['len']}", strict=False)
    elif isinstance(value, dict) and "range" in value:
        low, high = map(ipaddress.ip_address, value["range"])
        yield from ipaddress.summarize_address_range(low, high)
    else:
        yield ipaddress.ip_network(value)


def _ports(value: Any) -> str:
    if isinstance(value, dict) and "range" in value:
        low, high = map(int, value["range"])
        return f"{low}-{high}"
    return str(int(value))


def _words(left: Any) -> str:
    """What is matched, in words."""
    if isinstance(left, dict):
        for kind in ("meta", "ct"):
            if isinstance(left.get(kind), dict):
                return f"{kind} {left[kind].get('key')}"
        if isinstance(left.get("payload"), dict):
            return f"{left['payload'].get('protocol', '')} {left['payload'].get('field', '')}".strip()
        return next(iter(left), "something")
    return "something"


def lay_filters(made: Records, device: Device, host: str) -> None:
    """The filter and translations of a host, beside its ports; what a plan can't hold is told."""
    found, report = device.filtering, made.report
    for text in found.unread:
        report.add("left out", device.name, text[:200])
    ports = {port.name: port for port in made.of(HostPort) if port.id.startswith(f"{host}/")}
    if found.bridged:
        for switch in sorted((s for s in made.of(VirtualSwitch) if s.host == host), key=lambda s: s.id):
            made.partial(switch.id, switch.id, "its host drops frames by rules of its own")
    order = 0
    for line in found.lines:
        sides = [_named(ports, names) for names in (line.enters, line.leaves)]
        if any(side is None for side in sides):
            # Nothing that the plan knows of comes in, or goes out, there.
            continue
        for enters, leaves in product(*(side or (None,) for side in sides)):
            order += 1
            made.put(
                FilterLine(
                    id=make_id(f"{device.name}/filter-{order}"),
                    of=host,
                    order=order,
                    action=line.action,
                    enters=enters,
                    leaves=leaves,
                    sources=line.sources,
                    targets=line.targets,
                    protocol=line.protocol,
                    ports=line.ports,
                )
            )
    translated: dict[str, set[str]] = {}
    for mask in found.masks:
        named = _named(ports, mask.leaves)
        for at in (
            named
            if named
            else ()
            if named is None
            else [p.id for p in ports.values() if any(":" not in a for a in p.addresses)]
        ):
            translated.setdefault(at, set()).update(mask.sources or ("",))
    for at, sources in sorted(translated.items()):
        told = () if "" in sources else tuple(sorted(sources))[:MOST_LISTED]
        made.put(Translation(id=make_id(f"{at}/translation"), at=at, sources=told))
    by_id = {port.id: port for port in ports.values()}
    taken: list[tuple[str, tuple[str, str]]] = []
    for turned in found.turned:
        for at in _named(ports, turned.enters) or ():
            own = [bare_address(address) for address in by_id[at].addresses]
            speaks = turned.protocol, turned.ports
            # The first that speaks of it decides.
            before = any(other == at and speak_alike(speaks, said) for other, said in taken)
            if turned.asked not in own or turned.to in own or before:
                report.add(
                    "left out",
                    device.name,
                    f"what comes for {turned.asked} is for {turned.to}: not of that port alone, or said before",
                )
                continue
            taken.append((at, speaks))
            made.put(
                InwardTranslation(
                    id=make_id(f"{at}/lets-in-{len(taken)}"),
                    at=at,
                    protocol=turned.protocol,
                    ports=turned.ports,
                    to=turned.to,
                    port=turned.port,
                )
            )
    if found.lines or found.masks or found.turned:
        report.add(
            "read",
            device.name,
            f"it filters what it forwards by {order} lines, and translates at {len(translated)} of its ports",
        )


def _named(ports: Mapping[str, HostPort], names: Sequence[str]) -> tuple[str, ...] | None:
    """The host ports (ids) that some names mean, of which one may end in *; empty: any; None: none of them is one."""
    if not names:
        return ()
    return (
        tuple(p.id for name, p in sorted(ports.items()) if any(fnmatchcase(name, n.replace("[", "[[]")) for n in names))
        or None
    )
