"""The addresses that interfaces get from others: leased, and formed of what is advertised."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from aptwire.judge.formed import held_of_adverts
from aptwire.judge.lease import held_by_lease
from aptwire.plan.stacks import Held

if TYPE_CHECKING:
    from aptwire.judge.judgement import Judgement


def held(judgement: Judgement) -> Mapping[str, tuple[Held, ...]]:
    """What each interface has from others, as far as it is known, by record; found once."""
    return judgement.once(_held)


def _held(judgement: Judgement) -> Mapping[str, tuple[Held, ...]]:
    leased, formed = held_by_lease(judgement), held_of_adverts(judgement)
    found = {record: (one,) for record, one in leased.items()}
    return {**found, **{record: (*found.get(record, ()), *of) for record, of in formed.items()}}
