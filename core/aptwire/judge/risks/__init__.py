"""Risks: what a verdict doesn't tell, since nobody suffers yet; and what is untidy.

Each risk names the records where it sits and brings the edits that would mend it; whether an edit does is found by
trying it (`judge/mends.py`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from aptwire.forward.trace import Hop
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks.base import GRAVITY, RISK, UNTIDY, Risk, some
from aptwire.judge.risks.cables import CableRisks
from aptwire.judge.risks.freedoms import FreedomRisks
from aptwire.judge.risks.hosts import HostRisks, fresh_mac
from aptwire.judge.risks.teams import TeamRisks
from aptwire.judge.risks.thin import ThinRisks
from aptwire.judge.risks.tidy import TidyRisks
from aptwire.plan.collecting import no_collecting
from aptwire.plan.edits import Edit

__all__ = ["GRAVITY", "RISK", "UNTIDY", "Risk", "fresh_mac", "offers", "risk_proof", "risks", "some"]


class _All(TeamRisks, ThinRisks, CableRisks, HostRisks, FreedomRisks, TidyRisks):
    """Every search, over one look at the plan."""


def _nothing(_: _All) -> tuple[Any, ...]:
    return ()


@dataclass(frozen=True)
class Search:
    """A search, and everything that it reads at once: record kinds, fields of `Facts`, and whatever `more` tells.

    What it found is kept for as long as all of that is the same.  Without `kinds` it is so cheap that it is done anew each time.
    """

    find: Callable[[_All], Iterator[Risk]]
    kinds: tuple[str, ...] | None = None
    facts: tuple[str, ...] = ()
    more: Callable[[_All], tuple[Any, ...]] = _nothing

    def run(self, look: _All) -> list[Risk]:
        """What it finds."""
        if self.kinds is None:
            return list(self.find(look))
        made_of = (
            *(look.plan.of(kind) for kind in (*NAMING, *self.kinds)),
            *(look.versions[field] for field in self.facts),
            *self.more(look),
        )
        return look.kept.get(self.find.__name__, made_of, lambda: list(self.find(look)))


NAMING = ("host", "virtual_switch", "fabric_switch", "guest", "station", "segment")
"""The kinds whose names stand in what others are called."""

SEARCHES = (
    Search(_All.shared, ("separation", "nic", "uplink"), ("roles", "segments", "teams"), lambda a: a.functions),
    Search(_All.thin, ("nic", "uplink"), ("thin",), lambda a: a.thin_roles),
    Search(_All.natives, ("fabric_port", "cable", "lag"), (), lambda a: (a.wiring.fabric,)),
    Search(_All.uplink_natives, ("fabric_port", "cable", "nic", "uplink")),
    Search(
        _All.excess,
        ("fabric_port", "cable", "secondary_vlan"),
        ("excess",),
        lambda a: (*a.functions, tuple(a.members.items())),
    ),
    Search(_All.lacking, ("fabric_port",), ("lacking",)),
    Search(_All.lags),
    Search(_All.blind, ("uplink",), ("carriers",), lambda a: tuple(a.lonely.items())),
    Search(_All.loops),
    Search(_All.sizes),
    Search(_All.own_guest),
    Search(_All.macs),
    Search(_All.guest_teams),
    Search(_All.mirrors),
    Search(_All.could),
    Search(_All.tunnels),
    Search(_All.answering),
    Search(_All.open_guards),
    Search(_All.rates),
    Search(_All.gateways),
    Search(_All.station_twins),
    Search(_All.limits),
    Search(_All.seen_names),
    Search(_All.same_names, (), ("groups",)),
    Search(_All.deviations),
    Search(_All.unused, ("group_order", "port_group", "secondary_vlan", "fabric_port"), ("empty", "needs")),
    Search(_All.doubled, ("secondary_vlan",), ("twins", "ways")),
    Search(_All.overlays),
)


def offers(judgement: Judgement, risk: Risk) -> tuple[tuple[str, Edit], ...]:
    """The edits that would rid a plan of a risk, in words; worth trying."""
    return risk.offers(_All(judgement))


def risk_proof(judgement: Judgement, risk: Risk) -> tuple[Hop, ...]:
    """The facts on which a risk rests."""
    return risk.proof(_All(judgement))


def risks(judgement: Judgement) -> list[Risk]:
    """All risks, those that will hurt first."""
    with no_collecting():
        finder = _All(judgement)
        made = [risk for search in SEARCHES for risk in search.run(finder)]
    return sorted(made, key=lambda r: (-GRAVITY.index(r.verdict), r.what, r.title, r.id))
