"""Uplinks that share NICs: one has them, the others go over it.  (One that sits on a host port joins two switches, and shares nothing.)

A VLAN interface on a NIC (or on a team) that is put into a bridge of its own is a share of that NIC: what its bridge sends gets the tag,
and what comes in with the tag is taken off the NIC before anybody else sees it.  A share without a VID takes nothing away.
"""

from __future__ import annotations

from collections.abc import Iterator

from aptwire.plan.kinds import FabricPort, Nic, Uplink
from aptwire.plan.plan import Plan


def root(plan: Plan, uplink: Uplink) -> Uplink:
    """The uplink whose NICs it uses: itself, or the one at the end of what it goes over."""
    seen = {uplink.id}
    while uplink.over is not None and uplink.over in plan.of("uplink") and uplink.over not in seen:
        seen.add(uplink.over)
        uplink = plan.get("uplink", uplink.over)
    return uplink


def nics_of(plan: Plan, uplink: Uplink) -> list[Nic]:
    """The NICs that it uses."""
    return list(plan.where("nic", "uplink", root(plan, uplink).id))


def sharing(plan: Plan, uplink: Uplink) -> Iterator[Uplink]:
    """All uplinks that use the same NICs, whose own it is first."""
    waiting = [root(plan, uplink)]
    while waiting:
        found = waiting.pop()
        yield found
        waiting.extend(plan.where("uplink", "over", found.id))


def stack(plan: Plan, uplink: Uplink) -> tuple[int, ...]:
    """The tags that an uplink puts on every frame, outermost first; none where it has NICs of its own."""
    port = plan.of("host_port").get(uplink.over)
    if port is not None:
        return (port.vid,) if port.vid else ()
    tags: tuple[int, ...] = ()
    seen: set[str] = set()
    while uplink.over is not None and uplink.over in plan.of("uplink") and uplink.id not in seen:
        seen.add(uplink.id)
        tags = ((uplink.vid,) if uplink.vid else ()) + tags
        uplink = plan.get("uplink", uplink.over)
    return tags


def joining(plan: Plan) -> Iterator[Uplink]:
    """The uplinks that sit on a host port of another switch."""
    return (uplink for uplink in plan.having("uplink", "over") if uplink.over in plan.of("host_port"))


def whole_lag(plan: Plan, id: str | None) -> tuple[str, ...]:
    """The LAGs that are one towards whoever is at the other end, the one with this id among them: itself, and perhaps one of another switch; () for none."""
    lag = plan.of("lag").get(id)
    if lag is None:
        return ()
    others = [lag.beside or "", *(one.id for one in plan.where("lag", "beside", lag.id))]
    return tuple(sorted({lag.id, *(id for id in others if id in plan.of("lag"))}))


def ports_together(plan: Plan, lag: str | None) -> list[FabricPort]:
    """The ports of a LAG, and of the one that is one with it."""
    return [port for id in whole_lag(plan, lag) for port in plan.where("fabric_port", "lag", id)]


def away(plan: Plan, uplink: Uplink) -> frozenset[int]:
    """The VIDs that shares of the same NICs take off them before an uplink's own switch sees them; one without a tag of its own comes after
    those beside it."""
    near = (
        [uplink, plan.get("uplink", uplink.over)]
        if uplink.vid is None and uplink.over in plan.of("uplink")
        else [uplink]
    )
    return frozenset(u.vid for own in near for u in plan.where("uplink", "over", own.id) if u.vid)
