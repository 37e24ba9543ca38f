"""Advertisements: which IPv6 prefixes and routers an interface hears of that forms its addresses itself (RFC 4862).

Whoever is on a link hears what is advertised there to all, unasked (RFC 4861 section 6.2.4), whether he himself is heard or not.  Advertisements add up: an
interface forms an address of each prefix, and takes each router for a way out (sections 6.3.4 and 6.3.6).  So a stranger's is no less taken than the segment's own.
Guards of adapters drop what isn't to be advertised.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from aptwire.above.outcomes import ANSWERED, BEST_FIRST, SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import may_advertise
from aptwire.above.speaking import Speaking
from aptwire.forward.parts import NOW, Place, State
from aptwire.judge.formed import TAKEN, UNHEARD, Advert, Formed, on_link
from aptwire.judge.judgement import Judgement
from aptwire.judge.lease import EITHER, WRONG
from aptwire.plan.kinds import ADVERTISED, LEASE, PLACES, Advertisement, Record, Segment
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import owner_of


@dataclass(frozen=True)
class Advertiser:
    """Somebody (`by`) who advertises at an interface (`at`), and whether that gets out of it: ANSWERED, or not, and why; `vias` as in `Advert`."""

    at: str
    by: str
    said: Advertisement
    vias: tuple[str, ...]
    outcome: str
    reason: str
    state: State = NOW


def listeners(plan: Plan) -> list[Record]:
    """The interfaces that form addresses of what is advertised."""
    return [record for kind in PLACES for record in plan.where(kind, "addressing6", ADVERTISED)]


class Adverts(Speaking[Advertiser, Advert]):
    """Who forms which addresses in a judged plan, in every state, or in one alone (`waking`: as if everybody were on)."""

    kind = Advertisement.kind
    asked = False

    @staticmethod
    def lies(record: Advertisement | None) -> str | None:
        """Where it is said."""
        return record.at if record is not None else None

    @staticmethod
    def concerned(got: Formed, said: frozenset[str]) -> bool:
        """Whoever hears nobody names whom he ought to hear, by what is advertised elsewhere."""
        return got.outcome in (UNHEARD, UNPROVEN) or not said.isdisjoint(got.said)

    @staticmethod
    def rests(source: Advertiser) -> Advertisement:
        """What is advertised."""
        return source.said

    @staticmethod
    def renewed(source: Advertiser, record: Advertisement) -> Advertiser:
        """Somebody who advertises something else."""
        return replace(source, said=record)

    def received(self, source: Advertiser, outcome: str, reason: str, state: State) -> Advert:
        """An advertisement as it is heard."""
        return Advert(source.by, source.at, source.said, source.vias, outcome, reason, state)

    def __init__(self, judgement: Judgement, state: State | None = None, waking: bool = False) -> None:
        super().__init__(judgement, state, waking)
        self._formed: dict[tuple[object, ...], Formed] = {}

    @cached_property
    def tabled(self) -> frozenset[str]:
        """Who advertises (owners)."""
        return frozenset(source.by for source in self.sources)

    @cached_property
    def sources(self) -> list[Advertiser]:
        """Everybody who advertises, by interface."""
        return [self._advertiser(said) for said in sorted(self.plan.all(Advertisement), key=lambda said: said.at)]

    def _advertiser(self, said: Advertisement) -> Advertiser:
        record = self.plan.find(said.at, PLACES)
        assert record is not None
        # Whoever listens takes the sender's link-local address for the way out; the others that it has at that interface stand for it, since they are the same neighbour's.
        vias = tuple(text.partition("/")[0] for text in record.addresses if ":" in text)  # type: ignore[attr-defined]
        outcome, reason = self._speaks(said.at, may_advertise, "advertises")
        return Advertiser(said.at, owner_of(self.plan, record).id, said, vias, outcome, reason)

    def of(self, record: Record) -> Formed:
        """What an interface that listens forms, or hears of its link where it leases its address; an advertisement of its own isn't one to it.  Those that stand alike on a segment form the same."""
        place = self.wiring.place(record.id)
        if place is None or place.context < 0:
            return Formed(UNHEARD, (), f"{called(self.plan, record)} isn’t attached to anything")
        heard = self.heard(place)
        adverts = [advert for advert in heard if advert.at != record.id]
        leasing = getattr(record, "addressing6", None) == LEASE
        key = (id(heard), len(adverts), place.segment, self.voices.loose(place.stand), leasing)
        known = self._formed.get(key)
        if known is None or len(adverts) < len(heard):
            adverts.sort(key=lambda one: (BEST_FIRST.index(one.outcome), one.at))
            known = self._weigh(place, adverts, leasing)
            self._formed[key] = known
        return known

    def _weigh(self, place: Place, adverts: Sequence[Advert], leasing: bool) -> Formed:
        """What comes of all that is advertised to an interface; `leasing`: it forms no address of it."""
        segment, told = self.plan.of(Segment.kind).get(place.segment or ""), tuple(adverts)
        judged = [(advert, self.misfit(segment, advert)) for advert in adverts if advert.outcome != SILENT]
        good = [advert for advert, wrong in judged if not wrong]
        bad = [(advert, wrong) for advert, wrong in judged if wrong]
        surely = next(((advert, wrong) for advert, wrong in bad if advert.outcome != UNPROVEN), None)
        lacking = self._lacking(segment, [advert for advert in good if advert.outcome == ANSWERED], leasing)
        if surely is not None:
            advert, wrong = surely
            if self._lacking(segment, good, leasing):
                return Formed(WRONG, told, wrong, NOW, advert.at)
            if not self._lacking(segment, [one for one in good if one.outcome != UNPROVEN], leasing):
                why = f"{wrong}; what is advertised adds up, and which of it is used isn’t said"
                return Formed(EITHER, told, why, NOW, advert.at)
        if bad:
            # Whether the one who would have it form a wrong address is heard, or alone, isn't known.
            advert, wrong = bad[0]
            return Formed(UNPROVEN, told, f"{wrong}{f', and {advert.reason}' if advert.reason else ''}", NOW, advert.at)
        if not lacking:
            return Formed(TAKEN, told, "")
        if not self._lacking(segment, good, leasing):
            # What it needs is there, but not always, or perhaps.
            first = next((advert for advert in good if advert.outcome == UNPROVEN), None)
            first = first or next(advert for advert in good if advert.outcome == WAVERS)
            return Formed(first.outcome, told, first.reason, first.state, first.at)
        return self._unheard(place, segment, told, lacking if good else "", leasing)

    def misfit(self, segment: Segment | None, advert: Advert | Advertiser) -> str:
        """Why an advertisement is none for a segment; empty where it is."""
        if segment is None:
            return ""
        name, gateways = self._called(advert.by), _gateways(segment)
        # A segment that says subnets, and none of IPv6, is meant to have none.
        foreign = [prefix for prefix in on_link(advert.said, True) if segment.subnets and prefix not in segment.subnets]
        if foreign:
            return f"{name} advertises {some(foreign)}, which is no subnet of {segment.name}"
        if advert.said.router and gateways and self.addresses(advert.by).isdisjoint(gateways):
            return f"{name} offers itself as the way out, and the gateway of {segment.name} is {some(gateways)}"
        return ""

    def _lacking(self, segment: Segment | None, adverts: Sequence[Advert], leasing: bool) -> str:
        """What an interface on a segment lacks that hears these; empty where that is nothing."""
        nets, gateways = (_subnets(segment), _gateways(segment)) if segment is not None else ([], [])
        if not any(prefix in nets or not nets for advert in adverts for prefix in on_link(advert.said, leasing)):
            return (
                f"nobody whom it hears advertises {some(nets)}" if nets else "it hears nobody who advertises a prefix"
            )
        if gateways and not any(advert.said.router for advert in adverts):
            return f"nobody whom it hears offers itself as the way out, and the gateway is {some(gateways)}"
        return ""

    def _unheard(
        self, place: Place, segment: Segment | None, adverts: tuple[Advert, ...], lacking: str, leasing: bool
    ) -> Formed:
        """Why an interface hears nobody who advertises what it needs (`lacking`: what others don't, whom it hears)."""
        if self.voices.loose(place.stand):
            reason = "nobody in the plan advertises what it needs, and its frames get somewhere of which nobody said what is behind it"
            return Formed(UNPROVEN, adverts, reason)
        nets = _subnets(segment) if segment is not None else []
        silent = next((a for a in adverts if a.outcome == SILENT and a.reason and not self.misfit(segment, a)), None)
        if silent is not None:
            return Formed(UNHEARD, adverts, silent.reason, silent.state, silent.at)
        heard = {advert.at for advert in adverts if advert.outcome != SILENT}
        meant = [s for s in self.sources if s.at not in heard and not set(on_link(s.said, leasing)).isdisjoint(nets)]
        if meant:
            source = min(meant, key=lambda s: (s.outcome != ANSWERED, s.at))
            reason = source.reason or f"it doesn’t hear {self._name(source.at)}"
            return Formed(UNHEARD, adverts, reason, NOW, source.at)
        if lacking:
            return Formed(UNHEARD, adverts, lacking)
        return Formed(UNPROVEN, adverts, "the plan doesn’t say who advertises prefixes there")


def _subnets(segment: Segment) -> list[str]:
    """A segment's subnets of IPv6."""
    return [net for net in segment.subnets if ":" in net]


def _gateways(segment: Segment) -> list[str]:
    """A segment's gateways of IPv6."""
    return [address for address in segment.gateways if ":" in address]
