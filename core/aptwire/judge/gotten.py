"""The addresses that interfaces get from others: leased, and formed of what is advertised."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from aptwire.judge.formed import held_by_lease6, held_of_adverts
from aptwire.judge.lease import held_by_lease
from aptwire.plan.stacks import Held

if TYPE_CHECKING:
    from aptwire.judge.judgement import Judgement


def held(judgement: Judgement) -> Mapping[str, tuple[Held, ...]]:
    """What each interface has from others, as far as it is known, by record; found once."""
    return judgement.once(_held)


def _held(judgement: Judgement) -> Mapping[str, tuple[Held, ...]]:
    leased = [{r: (one,) for r, one in of(judgement).items()} for of in (held_by_lease, held_by_lease6)]
    found: dict[str, tuple[Held, ...]] = {}
    for of in (*leased, held_of_adverts(judgement)):
        found.update({record: (*found.get(record, ()), *own) for record, own in of.items()})
    return found
