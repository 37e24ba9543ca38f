"""Who advertises IPv6 prefixes, or himself as the way out, where that is none of his; and whom a guard keeps from it."""

from __future__ import annotations

from collections.abc import Iterator

from aptwire.above.adverts import Advertiser, Adverts
from aptwire.above.outcomes import SILENT
from aptwire.above.ping import may_advertise
from aptwire.judge.formed import on_link
from aptwire.judge.forming import hushed
from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch
from aptwire.plan.edits import Patch
from aptwire.plan.kinds import PLACES, STATIC, Advertisement, Segment
from aptwire.plan.names import called, some


class AdvertRisks(RiskSearch):
    """What will go wrong with advertisements, whoever listens to them."""

    def stray_adverts(self) -> Iterator[Risk]:
        """Who advertises on a segment what isn't its own."""
        for adverts, source in self._sources():
            segment = self._segment(source)
            why = adverts.misfit(segment, source) if segment is not None and source.outcome != SILENT else ""
            if segment is None or not why:
                continue
            name = called(self.plan, self.plan.find(source.by))
            yield Risk(
                RISK,
                "stray-advert",
                (source.by, segment.id),
                f"{name} advertises on {segment.name} what isn’t its own",
                f"{why[:1].upper()}{why[1:]}; whoever listens takes it beside what its own routers advertise.",
                (source.said.id, source.at),
                segment=segment.id,
                facts=(self.fact(source.at, ", ".join(on_link(source.said, True)) or "itself", why),),
                mends=tuple(hushed(self.plan, source)),
            )

    def held_adverts(self) -> Iterator[Risk]:
        """Who is meant to advertise on a segment, and a guard drops it."""
        for adverts, source in self._sources():
            adapter, segment = self.adapter_of(source.at), self._segment(source)
            if adapter is None or segment is None or may_advertise(self.plan, adapter):
                continue
            if adverts.misfit(segment, source):
                continue
            name = self.plan.get("guest", adapter.guest).name
            edit = (Patch("adapter", adapter.id, {"advertise_routes": True}),)
            yield Risk(
                RISK,
                "held-advert",
                (source.said.id,),
                f"{name} advertises on {segment.name}, and a guard drops it",
                f"Neither {adapter.name} nor its port group says that it may send router advertisements.",
                (adapter.id, source.said.id),
                segment=segment.id,
                facts=(self.fact(adapter.id, ", ".join(on_link(source.said, True)) or "itself", "may not advertise"),),
                mends=((f"Let {adapter.name} of {name} advertise", edit),),
            )

    def heard_by_themselves(self) -> Iterator[Risk]:
        """Adapters with IPv6 at ports that give them their own frames back: what asks whether an address is taken asks itself (RFC 4862 appendix A)."""
        reflecting = {group.id for group in self.plan.where("port_group", "reflects", True)}
        found: dict[str, list[str]] = {}
        own = self.plan.where("adapter", "reflects", True)
        for adapter in (*own, *(a for id in reflecting for a in self.plan.where("adapter", "port_group", id))):
            group = self.plan.of("port_group").get(adapter.port_group)
            reflects = adapter.reflects if adapter.reflects is not None else group is not None and group.reflects
            six = adapter.addressing6 != STATIC or any(":" in address for address in adapter.addresses)
            if group is not None and reflects and six and adapter.id not in found.get(group.id, ()):
                found.setdefault(group.id, []).append(adapter.id)
        for id, adapters in sorted(found.items()):
            group = self.plan.get("port_group", id)
            names = some(sorted({self.plan.get("guest", self.plan.get("adapter", a).guest).name for a in adapters}))
            edit = [Patch("adapter", a, {"reflects": False}) for a in sorted(adapters)]
            yield Risk(
                UNTIDY,
                "self-heard",
                (id,),
                f"{names} may take {'its' if len(adapters) == 1 else 'their'} own IPv6 addresses for taken",
                f"Port group {group.name} of {self.host(self.plan.get('virtual_switch', group.switch).host)} gives back what they send, and so what asks whether somebody has an address (RFC 4862 appendix A).",
                tuple(sorted(adapters)),
                facts=tuple(self.fact(a, "hears itself", "its own question comes back") for a in sorted(adapters)),
                mends=((f"Let {names} not hear {'itself' if len(adapters) == 1 else 'themselves'}", tuple(edit)),),
            )

    def _sources(self) -> Iterator[tuple[Adverts, Advertiser]]:
        """Everybody who advertises."""
        if self.plan.of(Advertisement.kind):
            adverts = self.judgement.once(Adverts)
            yield from ((adverts, source) for source in adverts.sources)

    def _segment(self, source: Advertiser) -> Segment | None:
        """The segment on which somebody advertises."""
        record = self.plan.find(source.at, PLACES)
        return self.plan.of(Segment.kind).get(getattr(record, "belongs", None))
