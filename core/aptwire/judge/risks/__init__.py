"""Risks: what a verdict doesn't tell, since nobody suffers yet; and what is untidy.

Each risk names the records where it sits and brings the edits that would mend it; whether an edit does is found by
trying it (`judge/mends.py`).
"""

from __future__ import annotations

from aptwire.judge.judgement import Judgement
from aptwire.judge.risks.base import GRAVITY, RISK, UNTIDY, Risk, some
from aptwire.judge.risks.cables import CableRisks
from aptwire.judge.risks.freedoms import FreedomRisks
from aptwire.judge.risks.hosts import HostRisks, fresh_mac
from aptwire.judge.risks.teams import TeamRisks
from aptwire.judge.risks.thin import ThinRisks
from aptwire.judge.risks.tidy import TidyRisks

__all__ = ["GRAVITY", "RISK", "UNTIDY", "Risk", "fresh_mac", "risks", "some"]


class _All(TeamRisks, ThinRisks, CableRisks, HostRisks, FreedomRisks, TidyRisks):
    """Every search, over one look at the plan."""


SEARCHES = (
    _All.shared,
    _All.thin,
    _All.natives,
    _All.uplink_natives,
    _All.excess,
    _All.lacking,
    _All.lags,
    _All.blind,
    _All.loops,
    _All.sizes,
    _All.own_guest,
    _All.macs,
    _All.guest_teams,
    _All.mirrors,
    _All.could,
    _All.tunnels,
    _All.answering,
    _All.open_guards,
    _All.rates,
    _All.gateways,
    _All.station_twins,
    _All.limits,
    _All.seen_names,
    _All.same_names,
    _All.deviations,
    _All.unused,
    _All.doubled,
    _All.overlays,
)


def risks(judgement: Judgement) -> list[Risk]:
    """All risks, those that will hurt first."""
    finder = _All(judgement)
    made = [risk for search in SEARCHES for risk in search(finder)]
    return sorted(made, key=lambda r: (-GRAVITY.index(r.verdict), r.what, r.title, r.id))
