"""Risks: what a verdict doesn't tell, since nobody suffers yet; and what is untidy.

Each risk names the records where it sits and brings the edits that would mend it; whether an edit does is found by
trying it (`judge/mends.py`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from operator import attrgetter

from aptwire.forward.trace import Hop
from aptwire.judge.book import Grouping
from aptwire.judge.judgement import Judgement
from aptwire.judge.kept import Rests
from aptwire.judge.risks.adverts import AdvertRisks
from aptwire.judge.risks.alike import AlikeRisks
from aptwire.judge.risks.base import GRAVITY, RISK, UNTIDY, Risk, RiskSearch, naming
from aptwire.judge.risks.cables import CableRisks
from aptwire.judge.risks.freedoms import FreedomRisks
from aptwire.judge.risks.hosts import HostRisks, fresh_mac
from aptwire.judge.risks.leases import LeaseRisks
from aptwire.judge.risks.load import LoadRisks
from aptwire.judge.risks.queues import QueueRisks
from aptwire.judge.risks.ranges import RangeRisks
from aptwire.judge.risks.renewals import RenewalRisks
from aptwire.judge.risks.routes import RouteRisks
from aptwire.judge.risks.rules import RuleRisks
from aptwire.judge.risks.starting import StartRisks
from aptwire.judge.risks.teams import TeamRisks
from aptwire.judge.risks.thin import ThinRisks
from aptwire.judge.risks.tidy import TidyRisks
from aptwire.plan.collecting import no_collecting
from aptwire.plan.edits import Edit
from aptwire.plan.kinds import PLACES

__all__ = ["GRAVITY", "RISK", "UNTIDY", "Risk", "fresh_mac", "offers", "risk_proof", "risks", "some"]


class _All(
    TeamRisks,
    ThinRisks,
    CableRisks,
    HostRisks,
    FreedomRisks,
    LeaseRisks,
    RenewalRisks,
    AdvertRisks,
    RangeRisks,
    QueueRisks,
    LoadRisks,
    RouteRisks,
    RuleRisks,
    StartRisks,
    TidyRisks,
    AlikeRisks,
):
    """Every search, over one look at the plan."""


def _fabric(look: RiskSearch) -> Rests:
    return (look.wiring.fabric, *naming(look, "cable", "lag"))


GROUPED: tuple[Grouping[_All, Risk], ...] = (
    Grouping("thin", _All.thin_teams, _All.thin, told_of=naming),
    Grouping(
        "excess",
        _All.wasteful,
        _All.excess,
        lambda a: (a.used_bits, *a.behind),
        lambda a: (tuple(a.members.values()), *naming(a, "segment")),
        lambda a, switch, ports: (a.seen_there(ports), a.plan.get("fabric_switch", switch).name),
    ),
    Grouping("lacking", _All.missing, _All.lacking, told_of=naming),
    Grouping("teamed", _All.restless, _All.teamed, told_of=_fabric),
    Grouping("blind", _All.watching, _All.blind, told_of=_fabric, about=lambda a, switch, _: a.lonely.get(switch)),
    Grouping("answering", _All.answers, _All.answering, told_of=naming),
    Grouping("guards", _All.opened, _All.open_guards, told_of=naming),
    Grouping("rates", _All.limited, _All.rates, told_of=naming),
    Grouping("same names", _All.named_twice, _All.same_names, told_of=naming),
    Grouping("deviations", _All.deviating, _All.deviations, told_of=lambda a: naming(a, "guest")),
    Grouping("empty", _All.unseated, _All.empty, told_of=lambda a: naming(a, "group_order")),
    Grouping("twins", _All.paired, _All.twins, told_of=naming),
    Grouping("one name", _All.ways, _All.one_name, told_of=naming),
)
"""What is searched for host by host; an edit costs the hosts that it touched."""


def _segments(look: _All) -> Rests:
    return (*(look.plan.of(kind) for kind in ("segment", "secondary_vlan", "rule")), look.populated)


def _cables(look: _All) -> Rests:
    return naming(look, "cable", "nic", "fabric_port")


def _ranges(look: _All) -> Rests:
    return naming(look, "segment", "guest", "station", "lease_scope", *PLACES)


def _kept(find: Callable[[_All], Iterator[Risk]], made_of: Callable[[_All], Rests]) -> Callable[[_All], list[Risk]]:
    """A search of which the answer holds for as long as what it rests on."""

    def search(look: _All) -> list[Risk]:
        return look.kept.get(find.__name__, made_of(look), lambda: list(find(look)))

    return search


SINGLE: tuple[Callable[[_All], Iterable[Risk]], ...] = (
    *(_All.natives, _All.uplink_natives, _All.lags, _All.loops, _All.sizes, _All.own_guest),
    *(_All.macs, _All.guest_teams, _All.mirrors, _All.could, _All.tunnels, _All.station_twins),
    *(_All.limits, _All.seen_names, _All.unused, _All.off_pattern, _All.named_alike),
    *(_kept(_All.doubled, _segments), _kept(_All.overlays, _segments), _kept(_All.gateways, _segments)),
    *(_kept(_All.joined_lags, _fabric), _kept(_All.marked_twice, _cables), _All.lease_servers),
    *(
        _All.shut_gateways,
        _All.lost_routes,
        _All.idle_inward,
        _All.lent_addresses,
        _All.strays,
        _All.stray_adverts,
        _All.held_adverts,
        _All.heard_by_themselves,
        _All.pools,
        _All.unasked,
        _All.renewals,
        _All.strewn,
        _All.controllers,
        _All.starts,
        _All.queues,
        _All.over_full,
        _kept(_All.misplaced, _ranges),
        _All.rules,
        _All.contradictions,
    ),
)
"""What is about few, and searched for anew each time."""


def offers(judgement: Judgement, risk: Risk) -> tuple[tuple[str, Edit], ...]:
    """The edits that would rid a plan of a risk, in words; worth trying."""
    return risk.offers(_All(judgement))


def risk_proof(judgement: Judgement, risk: Risk) -> tuple[Hop, ...]:
    """The facts on which a risk rests."""
    return risk.proof(_All(judgement))


def risks(judgement: Judgement) -> list[Risk]:
    """All risks, those that will hurt first."""
    known = judgement.answered.answers.get("risks")
    if not isinstance(known, tuple):
        with no_collecting():
            finder = _All(judgement)
            made = [risk for grouping in GROUPED for risk in finder.book.grouped(grouping, finder).all()]
            made += (risk for search in SINGLE for risk in search(finder))
            # Those told before are in order already, which makes sorting quick.
            now = set(map(id, made))
            before, _ = judgement.answered.before.get("risks", ((), None))
            kept = [risk for risk in before if id(risk) in now]
            if len(kept) < len(made):
                held = set(map(id, kept))
                kept = sorted([*kept, *(risk for risk in made if id(risk) not in held)], key=attrgetter("rank"))
            known = judgement.answered.answers["risks"] = tuple(kept)
    return list(known)
