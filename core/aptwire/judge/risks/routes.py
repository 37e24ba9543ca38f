"""Gateways through which nobody gets, and routes that lead nowhere."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import ip_address, ip_interface

from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch
from aptwire.plan.edits import Drop, Edit, Patch
from aptwire.plan.kinds import PLACES, InwardTranslation, Outside, Record, Route, Segment
from aptwire.plan.names import called, some
from aptwire.plan.outside import handed_over, taken_there
from aptwire.plan.stacks import owner_of, stack_of


class RouteRisks(RiskSearch):
    """What keeps packets from leaving their subnet."""

    def shut_gateways(self) -> Iterator[Risk]:
        """Guests and stations that bear a segment's gateway and aren't said to forward."""
        shut: dict[str, list[tuple[Segment, str]]] = {}
        for segment in sorted((s for s in self.plan.all(Segment) if s.gateways), key=lambda s: s.id):
            for address in segment.gateways:
                owners = {owner.id: owner for owner in map(self._router, self.wiring.bearers.get(address, ())) if owner}
                if not any(getattr(owner, "routes", False) for owner in owners.values()):
                    for id in owners:
                        shut.setdefault(id, []).append((segment, address))
        for id, borne in sorted(shut.items()):
            owner = self.plan.find(id, ("guest", "station"))
            assert owner is not None
            name = called(self.plan, owner)
            segments = some(dict.fromkeys(segment.name for segment, _ in borne))
            yield Risk(
                UNTIDY,
                "shut-gateway",
                (id,),
                f"{name} bears the gateway of {segments}, and isn’t said to forward",
                "As the plan has it, what is sent there for other subnets ends there.",
                (id,),
                segment=borne[0][0].id,
                facts=tuple(self.fact(id, address, f"the gateway of {segment.name}") for segment, address in borne),
                mends=(
                    (f"Say that {name} forwards between its interfaces", (Patch(owner.kind, id, {"routes": True}),)),
                ),
            )

    def _router(self, bearer: str) -> Record | None:
        """The guest or station that bears an address by a record; None: a host does."""
        record = self.plan.find(bearer, PLACES)
        owner = owner_of(self.plan, record) if record is not None else None
        return owner if owner is not None and owner.kind != "host" else None

    def idle_inward(self) -> Iterator[Risk]:
        """Inward translations that let in for nobody: to an address that nobody has, or by somebody who doesn't forward."""
        for turned in sorted(self.plan.all(InwardTranslation), key=lambda t: t.id):
            owner = owner_of(self.plan, self.plan.find(turned.at, PLACES))  # type: ignore[arg-type]
            forwards = getattr(owner, "routes", False)
            if forwards and self.wiring.bearers.get(turned.to):
                continue
            name = called(self.plan, owner)
            why = f"nobody has {turned.to}" if forwards else f"{name} doesn’t forward"
            mends: list[tuple[str, Edit]] = [
                (f"Take away {called(self.plan, turned)}", (Drop(turned.kind, turned.id),))
            ]
            if not forwards:
                forward = (Patch(owner.kind, owner.id, {"routes": True}),)
                mends.insert(0, (f"Say that {name} forwards between its interfaces", forward))
            yield Risk(
                UNTIDY,
                "idle-inward",
                (turned.id,),
                f"{name} lets in what is for {turned.to}, and {why}",
                f"What comes for it at {called(self.plan, self.plan.find(turned.at))} ends there.",
                (turned.id,),
                facts=(self.fact(turned.at, f"is for {turned.to}", why),),
                mends=tuple(mends),
            )

    def lent_addresses(self) -> Iterator[Risk]:
        """Outside networks that lend fewer addresses than are in use where they are handed over."""
        for outside in sorted((o for o in self.plan.all(Outside) if o.lends is not None), key=lambda o: o.id):
            held, leasing = taken_there(self.plan, outside)
            needed = len(held) + len(leasing)
            if needed <= (outside.lends or 0):
                continue
            segments = handed_over(self.plan, outside)
            names = [called(self.plan, self.plan.get("segment", id)) for id in segments]
            bearers = sorted({id for address in held for id in self.wiring.bearers.get(address, ())} | {*leasing})
            there = [r for id in bearers if (r := self.plan.find(id, PLACES)) is not None]
            there = [r for r in there if r.belongs in segments and getattr(r, "station", None) != outside.at]  # type: ignore[attr-defined]
            yield Risk(
                RISK,
                "lent-addresses",
                (outside.id,),
                f"{needed} addresses are taken on {some(names)}, and {outside.name} lends {outside.lends}",
                f"{some(called(self.plan, r) for r in there)}: whoever has none that was lent gets no answer from outside.",
                (outside.id, *(r.id for r in there)),
                segment=segments[0],
                facts=tuple(self.fact(r.id, ", ".join(r.addresses) or "by lease", "takes one") for r in there[:20]),  # type: ignore[attr-defined]
                mends=((f"Have {outside.name} lend {needed}", (Patch("outside", outside.id, {"lends": needed}),)),),
            )

    def lost_routes(self) -> Iterator[Risk]:
        """Routes whose next hop is in no subnet of whoever has them (RFC 1812 section 5.2.4.2)."""
        for route in sorted(self.plan.all(Route), key=lambda r: r.id):
            via = ip_address(route.via)
            sender = self.plan.find(route.of)
            assert sender is not None
            on_nics = [a for nic in self.plan.where("nic", "host", route.of) for a in map(ip_interface, nic.addresses)]
            if any(i.holds(via) for i in stack_of(self.plan, sender).interfaces) or any(
                a.version == via.version and via in a.network for a in on_nics
            ):
                continue
            owner = called(self.plan, sender)
            yield Risk(
                RISK,
                "lost-route",
                (route.id,),
                f"{owner} sends to {route.via}, which is in none of its subnets",
                f"Packets for {some(route.to)} have no next hop there.",
                (route.of,),
                facts=(self.fact(route.of, f"route over {route.via}", "no interface of its own is in that subnet"),),
                mends=((f"Take the route over {route.via} away from {owner}", (Drop("route", route.id),)),),
            )
