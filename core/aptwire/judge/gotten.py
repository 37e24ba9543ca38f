"""The addresses that interfaces get from others: leased, and formed of what is advertised.  After an edit they are found anew of those alone who get something else."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from itertools import chain
from typing import TYPE_CHECKING

from aptwire.judge.formed import NO_LEASES6, NONE_FORMED, Formed6, Leased6
from aptwire.judge.lease import NO_LEASES, Pooled
from aptwire.plan.collecting import no_collecting
from aptwire.plan.kinds import PLACES
from aptwire.plan.layers import layered, perhaps_differing
from aptwire.plan.stacks import Address, Held

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

    def who(self, address: Address) -> str | None:
        """Whoever (a record) has an address; of several the last one."""
        return next(reversed(self.bearing.get((address.version, int(address)), ())), None)

    def surely(self, address: Address) -> bool:
        """Whether it is known of an address who has it."""
        who = self.who(address)
        return who is not None and any(
            one.exact for one in self.held[who] if one.numbers[:2] == (address.version, int(address))
        )

    def after(self, judgement: Judgement, edited: Iterable[str]) -> Gotten:
        """The same in a judgement, after an edit of some records (ids); what stands as before is taken over."""
        four = self.four.after(judgement.plan, judgement.leases)
        six, formed = self.six.after(judgement), self.formed.after(judgement, edited)
        pairs = (self.four.held, four.held), (self.six.held, six.held), (self.formed.held, formed.held)
        asked = dict.fromkeys(chain.from_iterable(perhaps_differing(*pair) for pair in pairs))
        held: dict[str, tuple[Held, ...] | None] = {}
        bearing: dict[Number, tuple[str, ...] | None] = {}
        several: set[Number] = set()
        for record in asked:
            was, own = self.held.get(record, ()), formed.held.get(record, ())
            if (leased := six.held.get(record)) is not None:
                own = (leased, *own)
            if (leased := four.held.get(record)) is not None:
                own = (leased, *own)
            if own == was:
                continue
            held[record] = own or None
            for one in was:
                number = one.numbers[:2]
                left = bearing[number] if number in bearing else self.bearing[number]
                bearing[number] = tuple(other for other in left or () if other != record) or None
            for one in own:
                number = one.numbers[:2]
                others = bearing[number] if number in bearing else self.bearing.get(number, ())
                if others:
                    several.add(number)
                bearing[number] = (*others, record) if others else (record,)
        bearing.update((number, tuple(sorted({*of}))) for number in several if (of := bearing[number]))
        return Gotten(layered(self.held, held), layered(self.bearing, bearing), four, six, formed)


NOTHING = Gotten({}, {}, NO_LEASES, NO_LEASES6, NONE_FORMED)


def gotten(judgement: Judgement) -> Gotten:
    """What is had from others in a judgement; found once."""
    return judgement.once(_gotten)


def _gotten(judgement: Judgement) -> Gotten:
    known, changes = judgement.answered.before.get("gotten", (NOTHING, None))
    before, edited = NOTHING, set[str]()
    if changes is not None:
        before, edited = known, {id for kind, id in changes.records if kind in PLACES}
        edited.update(tag.id for id in list(edited) for tag in judgement.plan.where("guest_tag", "adapter", id))
    with no_collecting():
        made = judgement.answered.answers["gotten"] = before.after(judgement, edited)
    return made
