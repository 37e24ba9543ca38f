"""Which answers still hold after an edit: those of whose ground it touched nothing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property

from aptwire.forward.parts import Stand
from aptwire.judge.changes import Changes
from aptwire.judge.gotten import Gotten, gotten
from aptwire.judge.judgement import Judgement
from aptwire.judge.voices import voices
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import ABOVE, PLACES, SPECS, UNSEEN, Outside, Record, Segment
from aptwire.plan.layers import perhaps_differing
from aptwire.plan.stacks import LINES, Lines, adapter_of, ends_of, lines_of, owner_of

ASIDE = UNSEEN - ABOVE | {"limits"}
"""The kinds that no rule looks at."""
OWN = ("adapter", "guest_tag", "host_port")
"""The kinds that may come to be of those of whom a rule speaks."""
SEATED = ("adapter", "guest_tag", "guest")
"""The kinds of which an edit seats nobody else otherwise."""
WITHIN = {*OWN, "guest", "port_group", "group_order", "nic", "uplink", "cable", "fabric_port"}
"""The kinds of which an edit is felt in the blocks that it concerns, or in how the fabric lets VIDs pass."""

GIVEN = ("lease_scope", "lease_relay", "advertisement")
"""The kinds that are felt in what somebody has from others alone."""


@dataclass(frozen=True)
class Ground:
    """What an answer rests on: of whom it speaks (`members`, records, and the `owners` of these and of whom packets pass; `segments` of which everybody is meant; `services`: host ports with some are,
    `named`: others by name; `names` are those that might come to mean somebody else), the `blocks` in which they and whoever may send for them stand (None: all), the VID `classes` that
    are spoken there; `bearers`, `got` and `tabled`: who has which address, and by lease or formed, and who sends on (None: it doesn't ask); `lines` those by which
    packets were sent on or dropped when it was asked (None: it isn't known whose)."""

    members: frozenset[str]
    owners: frozenset[str]
    segments: frozenset[str]
    services: bool
    named: bool
    names: frozenset[str]
    blocks: frozenset[str] | None
    classes: frozenset[int]
    bearers: object = None
    got: Gotten | None = None
    tabled: frozenset[str] | None = None
    lines: Lines | None = None

    def holds(self, judgement: Judgement, changes: Changes | None, tabled: frozenset[str]) -> bool:
        """Whether it is as it was; where that isn't sure, it isn't."""
        if changes is None or changes.ways is None:
            return False
        touched = [(kind, id) for kind, id in changes.records if kind not in ASIDE]
        if not touched:
            return True
        if not all(
            self._called_otherwise(judgement, id) if (kind, id) in changes.words else self._beside(judgement, kind, id)
            for kind, id in touched
        ):
            return False
        if (
            self.lines
            and any(kind in LINES for kind, _ in touched)
            and lines_of(judgement.plan, self.lines) != self.lines
        ):
            return False
        if changes.ways and (changes.ways & self.classes or any(p.shifts for p in judgement.pairings.listed)):
            return False
        moved = changes.moved
        if moved and (self.blocks is None or judgement.wiring.crossed):
            return False
        if (
            self.blocks is not None
            and moved & self.blocks
            and not self._seats_alone(judgement, changes, touched, tabled)
        ):
            return False
        if self.tabled is None:
            return True
        if self.got is not None and not self._is_given(judgement, tabled):
            return False
        return self.bearers is judgement.wiring.bearers and self.tabled == tabled

    def _called_otherwise(self, judgement: Judgement, id: str) -> bool:
        """Whether an edit of what people read of a record, or of a segment's name, concerns none of those of whom it speaks, and nobody else is meant by it now."""
        segment = judgement.plan.of(Segment.kind).get(id)
        return segment is None or not (self.named or id in self.segments or segment.name in self.names)

    def _beside(self, judgement: Judgement, kind: str, id: str) -> bool:
        """Whether an edit of a record concerns none of those of whom it speaks."""
        if kind in ABOVE and self.lines is not None:
            # What is given otherwise is asked for by itself; who speaks of frames alone rests on who is outside at the most.
            return kind in (*LINES, *GIVEN) or (self.tabled is None and kind != Outside.kind)
        if kind not in WITHIN or id in self.members or id in self.owners:
            return False
        if kind not in (*OWN, "guest"):
            return True
        record = judgement.plan.find(id, (*OWN, "guest"))
        if record is not None and _answers(judgement, record):
            return False
        if self.named or (kind == "host_port" and self.services):
            return False
        if kind == "guest" and ((self.tabled and id in self.tabled) or getattr(record, "name", "") in self.names):
            return False
        return kind == "guest" or getattr(record, "belongs", None) not in self.segments

    def _seats_alone(
        self, judgement: Judgement, changes: Changes, touched: Iterable[tuple[str, str]], tabled: frozenset[str]
    ) -> bool:
        """Whether an edit is of interfaces of guests alone who send nothing on, so that everybody else in their blocks is heard where he was, and is it known where that
        is."""
        if changes.ways or (changes.moved - changes.blocks) & (self.blocks or set()) or voices(judgement).any_open:
            return False
        for kind, id in touched:
            record = judgement.plan.find(id, SEATED)
            if record is None or kind not in SEATED:
                return False
            adapter = adapter_of(judgement.plan, record)
            if adapter is not None and adapter.guest in tabled | self.owners:
                return False
        return True

    def _is_given(self, judgement: Judgement, tabled: frozenset[str]) -> bool:
        """Whether those of whom it speaks, and whoever sends on, have from others what they had, and who else has something else has no address that somebody may ask for."""
        assert self.got is not None
        since = judgement.once(_Since).given(self.got)
        return since.sure and since.records.isdisjoint(self.members) and since.owners.isdisjoint(tabled | self.owners)


@dataclass(frozen=True)
class _Given:
    """The interfaces (`records`) that have something else from others than they had, and whose they are (`owners`); `sure`: none of their addresses, before and now, is one
    that anybody else has too, or for which packets are sent on."""

    records: frozenset[str]
    owners: frozenset[str]
    sure: bool


class _Since:
    """What differs of what is had from others in a judgement from what was had in earlier ones."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        # Each is kept with what differs from it, so that its number stays its own.
        self._known: dict[int, tuple[Gotten, _Given]] = {}

    def given(self, was: Gotten) -> _Given:
        """Since an earlier time."""
        if id(was) not in self._known:
            self._known[id(was)] = was, self._find(was)
        return self._known[id(was)][1]

    def _find(self, was: Gotten) -> _Given:
        plan, now = self.judgement.plan, gotten(self.judgement)
        pairs: tuple[tuple[Mapping[str, object], Mapping[str, object]], ...] = (
            (was.held, now.held),
            (was.four.leases, now.four.leases),
            (was.six.leases6, now.six.leases6),
            (was.formed.formed, now.formed.formed),
        )
        found: set[str] = set()
        for one, two in pairs:
            pairs_of = ((id, one.get(id), two.get(id)) for id in perhaps_differing(one, two))
            found.update(id for id, before, after in pairs_of if before is not after and before != after)
        owners: set[str] = set()
        for id in found:
            record = plan.find(id, PLACES)
            # Of who is gone nobody knows whose he was.
            if record is None:
                return _Given(frozenset(found), frozenset(), False)
            owners.add(owner_of(plan, record).id)
        held = [one for of in (was.held, now.held) for id in found for one in of.get(id, ())]
        alone = all(len(of.bearing.get(one.numbers[:2], ())) < 2 for of in (was, now) for one in held)
        bearers = self.judgement.wiring.bearers
        texts = {str(one.bound.ip) for one in held}
        sure = alone and texts.isdisjoint(self._sought) and not any(text in bearers for text in texts)
        return _Given(frozenset(found), frozenset(owners), sure)

    @cached_property
    def _sought(self) -> frozenset[str]:
        """The addresses to which the plan says that packets are handed on."""
        plan = self.judgement.plan
        said = (getattr(record, name) for kind, name in _SOUGHT for record in plan.having(kind, name))
        return frozenset(text for words in said for text in ([words] if isinstance(words, str) else words))


_SOUGHT = tuple(
    (kind, name)
    for kind, specs in SPECS.items()
    for name in ("gateway", "gateways", "via", "to")
    if name in specs and specs[name].kind in ("ip", "ips")
)
"""The fields that say where packets are handed on, by kind of record."""


def _answers(judgement: Judgement, record: Record) -> bool:
    """Whether somebody, or an interface, may answer for an address that isn't his alone: one that another one has too, or for which a router lets in what comes for its own."""
    plan, doubled = judgement.plan, judgement.wiring.doubled
    let_in = {turned.to for turned in plan.all("inward_translation")}
    interfaces = ends_of(plan, record) if record.kind == "guest" else [record]
    texts = [getattr(interface, "addresses", ()) for interface in interfaces]
    # Whoever has none in the plan may have it by lease.
    if let_in and not all(texts):
        return True
    return any(bare_address(text) in doubled or bare_address(text) in let_in for own in texts for text in own)


def blocks_of(stands: Iterable[Stand]) -> tuple[frozenset[str], frozenset[int]]:
    """The blocks in which stands are, and the VID classes that are spoken there."""
    blocks, classes = set[str](), set[int]()
    for stand in stands:
        blocks.add(stand.block)
        classes.add(stand.context)
        classes.update(stand.hears)
    return frozenset(blocks), frozenset(classes)
