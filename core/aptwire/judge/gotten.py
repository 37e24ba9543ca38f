"""The addresses that interfaces get from others: leased, and formed of what is advertised.  After an edit they are found anew of those alone who get something else."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from aptwire.judge.formed import Formed6, Leased6, held_by_lease6, held_of_adverts
from aptwire.judge.lease import Pooled
from aptwire.plan.kinds import PLACES
from aptwire.plan.layers import differing, layered
from aptwire.plan.stacks import Held

if TYPE_CHECKING:
    from aptwire.judge.judgement import Judgement

Number = tuple[int, int]
"""An address: its IP version, and its number."""


@dataclass(frozen=True)
class Gotten:
    """What each interface has from others, as far as it is known, by record (`held`), and who has an address, by that (`bearing`)."""

    held: Mapping[str, tuple[Held, ...]]
    bearing: Mapping[Number, tuple[str, ...]]
    four: Pooled
    six: Leased6
    formed: Formed6

    def surely(self, address: Number) -> bool:
        """Whether it is known of an address who has it."""
        of = self.bearing.get(address, ())
        return any(one.exact for record in of[-1:] for one in self.held[record] if number_of(one) == address)


def number_of(held: Held) -> Number:
    """The address that somebody has."""
    return held.bound.version, int(held.bound)


def gotten(judgement: Judgement) -> Gotten:
    """What is had from others in a judgement; found once."""
    return judgement.once(_gotten)


def held(judgement: Judgement) -> Mapping[str, tuple[Held, ...]]:
    """What each interface has from others, as far as it is known, by record."""
    return gotten(judgement).held


def _gotten(judgement: Judgement) -> Gotten:
    known, changes = judgement.answered.before.get("gotten", (None, None))
    before = known if isinstance(known, Gotten) and changes is not None else None
    plan = judgement.plan
    edited = {id for kind, id in changes.records if kind in PLACES} if changes is not None else set[str]()
    edited.update(tag.id for id in list(edited) for tag in plan.where("guest_tag", "adapter", id))
    four = Pooled.of(plan, judgement.leases, before.four if before is not None else None)
    formed = held_of_adverts(judgement, before.formed if before is not None else None, edited)
    six = held_by_lease6(judgement, before.six if before is not None else None)
    made = judgement.answered.answers["gotten"] = _together(four, six, formed, before)
    return made


def _together(four: Pooled, six: Leased6, formed: Formed6, before: Gotten | None) -> Gotten:
    """All that is had, and by whom; what stands as before is taken over."""
    asked: set[str] = set()
    parts: tuple[tuple[Mapping[str, object], Mapping[str, object]], ...] = (
        (before.four.held if before is not None else {}, four.held),
        (before.six.held if before is not None else {}, six.held),
        (before.formed.held if before is not None else {}, formed.held),
    )
    for one, two in parts:
        keys: Iterable[str] | None = differing(one, two)
        asked.update(one.keys() | two.keys() if keys is None else keys)
    held: dict[str, tuple[Held, ...] | None] = {}
    bearing: dict[Number, set[str]] = {}
    was_held: Mapping[str, tuple[Held, ...]] = before.held if before is not None else {}
    was_bearing: Mapping[Number, tuple[str, ...]] = before.bearing if before is not None else {}
    for record in asked:
        was = was_held.get(record, ())
        leased = (found for of in (four.held, six.held) if (found := of.get(record)) is not None)
        own = (*leased, *formed.held.get(record, ()))
        if own == was:
            continue
        held[record] = own or None
        for number in map(number_of, was):
            bearing.setdefault(number, set(was_bearing.get(number, ()))).discard(record)
        for number in map(number_of, own):
            bearing.setdefault(number, set(was_bearing.get(number, ()))).add(record)
    by_number = {number: tuple(sorted(of)) or None for number, of in bearing.items()}
    return Gotten(layered(was_held, held), layered(was_bearing, by_number), four, six, formed)
