"""A segment brought to where it is wanted: on hosts, at a port of the fabric, and over the cables between switches that it needs for that, and no others.

Whether a cable between switches needs the VID is asked of the plan in which all of them carry it (`judge/need.py`): those alone keep it over which a way without detour leads
from somebody to somebody else, whatever fails.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from aptwire.judge.judgement import Judgement
from aptwire.judge.need import NEEDED, needs
from aptwire.judge.plugging import fresh_id, next_free_address
from aptwire.judge.verdicts import judged_after
from aptwire.judge.voices import voices
from aptwire.plan import vids
from aptwire.plan.edits import Edit, Operation, Patch, Put, apply_edit
from aptwire.plan.gestures import letting, offering, tagged_segment
from aptwire.plan.kinds import PLACES, Cable, FabricPort, FabricSwitch, Station, StationPort
from aptwire.plan.names import called, natural, some
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.ports import far_end
from aptwire.plan.sharing import ports_together


@dataclass(frozen=True)
class Brought:
    """The edit, in a few words what it does, and the hosts (ids) that it leaves out since none of their switches has a way out."""

    edit: Edit
    says: str
    left: tuple[str, ...] = ()


def everywhere(judgement: Judgement, segment: str, hosts: Sequence[str] = ()) -> Brought:
    """A segment offered on some hosts (on all, unless any are named), let through by their uplinks and ports, and carried between the switches.

    PlanError where there is no such segment or host, where it has no VID, or where nothing is left to do.
    """
    plan = judgement.plan
    wanted = tagged_segment(plan, segment)
    asked = list(hosts) or [h.id for h in sorted(plan.all("host"), key=lambda h: natural(h.name))]
    made, left = offering(plan, wanted, asked)
    edit = (*made, *between(judgement, tuple(made), wanted.vid or 0))
    if not edit:
        out = [plan.get("host", host).name for host in left]
        why = f"; {some(out)} {'has' if len(out) == 1 else 'have'} no switch with a way out" if out else ""
        raise PlanError([Problem(f"{wanted.name} is offered and carried wherever it can be{why}", field="segment")])
    return Brought(edit, f"Offer {wanted.name} on {_count(len(asked) - len(left), 'host')}", tuple(left))


def at_port(judgement: Judgement, port: str, segment: str, name: str) -> Brought:
    """A free port of a physical switch made an access port of a segment, with a station plugged in (a laptop in the lab), and the segment carried to there.

    PlanError where there is no such port or segment, where something else is plugged in, or where it has no VID.
    """
    plan = judgement.plan
    wanted = tagged_segment(plan, segment)
    own = plan.of("fabric_port").get(port)
    if own is None:
        raise PlanError([Problem("there is no such port", field="port")])
    there = far_end(plan, port)
    stations = [*plan.where("station_port", "port", port), *plan.where("bmc", "port", port)]
    if there is not None or stations or own.lag is not None:
        what = called(plan, there) if there is not None else called(plan, stations[0]) if stations else "a LAG"
        raise PlanError([Problem(f"{called(plan, own)} isn’t free: {what} is there", field="port")])
    if not name.strip():
        raise PlanError([Problem("what is plugged in needs a name", field="name")])
    usual = dict.fromkeys(("allowed", "native", "pvid", "members", "untagged", "admits"))
    words = {"mode": "access", "vid": wanted.vid, **usual, "enabled": True, "isolated": False}
    address = next_free_address(plan, wanted)
    switch = plan.get("fabric_switch", own.switch)
    station = Station(id=fresh_id(plan, name.strip()), name=name.strip(), site=switch.site)
    made: list[Operation] = [
        Patch("fabric_port", port, {n: v for n, v in words.items() if getattr(own, n) != v}),
        Put(station),
        Put(
            StationPort(
                id=fresh_id(plan, f"{station.id}/{own.name}"),
                station=station.id,
                port=port,
                belongs=segment,
                addresses=(address,) if address is not None else (),
            )
        ),
    ]
    made = [op for op in made if not isinstance(op, Patch) or op.changes]
    edit = (*made, *between(judgement, tuple(made), wanted.vid or 0, [switch]))
    reached = _reached(judgement, edit, str(made[-1].record.id) if isinstance(made[-1], Put) else "", segment)
    alone = "" if reached else ", where nobody of it is reached"
    return Brought(edit, f"Plug {station.name} into {wanted.name} at {called(plan, own)}{alone}")


def _reached(judgement: Judgement, edit: Edit, record: str, segment: str) -> bool:
    """Whether an interface may hear somebody of a segment once an edit is made, or there is nobody to hear."""
    after = judged_after(judgement, edit)
    own, known = after.wiring.place(record), voices(after)
    members = (r.id for kind in PLACES for r in after.plan.where(kind, "belongs", segment) if r.id != record)
    places = [place for place in map(after.wiring.place, members) if place is not None and place.context >= 0]
    return own is not None and (not places or any(known.may(own, place) for place in places))


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"


def between(judgement: Judgement, edit: Edit, vid: int, at: Iterable[FabricSwitch] = ()) -> list[Operation]:
    """What lets a VID through between the fabric's switches once an edit has brought it to some hosts, or to a port `at` some switches; and has switches that list their VLANs
    know it, where it gets to them."""
    plan = apply_edit(judgement.plan, edit)[0] if edit else judgement.plan
    ports = {port.id: port for port in inner_ports(plan) if port.enabled}
    lacking = {id: patch for id, port in ports.items() if (patch := letting(port, {vid})) is not None}
    unaware = {s.id: s for s in plan.all(FabricSwitch) if s.managed and not _knows(s, vid)}
    every: list[Operation] = [*lacking.values()]
    every += [_knowing(switch, vid) for switch in unaware.values()]
    whole = (*edit, *every)
    if not whole:
        return []
    known = needs(judged_after(judgement, whole))
    needed: set[str] = set()
    for cable in _inner(plan):
        ends = list(_ends(plan, cable))
        carried = known.carried(cable) if any(p.id in lacking or p.switch in unaware for p in ends) else []
        if any(row.need == NEEDED and vid in vids.members(row.vids) for row in carried):
            needed |= {p.id for port in ends for p in (ports_together(plan, port.lag) or [port])}
    offered = {op.id for op in edit if isinstance(op, Patch) and op.kind == "fabric_port"}
    offered |= {
        port.id for port in plan.all(FabricPort) if unaware and port.switch in unaware and _serves(plan, port, vid)
    }
    reached = {plan.get("fabric_port", port).switch for port in needed | offered} | {switch.id for switch in at}
    made: list[Operation] = [patch for id, patch in sorted(lacking.items()) if id in needed]
    return [*made, *(_knowing(switch, vid) for id, switch in sorted(unaware.items()) if id in reached)]


def _inner(plan: Plan) -> Iterator[Cable]:
    """The cables between two switches of the fabric."""
    ports = plan.of("fabric_port")
    return (cable for cable in plan.all(Cable) if cable.a in ports and cable.b in ports)


def _ends(plan: Plan, cable: Cable) -> Iterator[FabricPort]:
    return (plan.get("fabric_port", end) for end in (cable.a, cable.b))


def inner_ports(plan: Plan) -> list[FabricPort]:
    """The ports at both ends of each cable between two switches of the fabric."""
    return [port for cable in _inner(plan) for port in _ends(plan, cable)]


def _knows(switch: FabricSwitch, vid: int) -> bool:
    return switch.vlans is None or vid in vids.members(switch.vlans)


def _knowing(switch: FabricSwitch, vid: int) -> Patch:
    return Patch("fabric_switch", switch.id, {"vlans": vids.with_vid(switch.vlans or "", vid)})


def _serves(plan: Plan, port: FabricPort, vid: int) -> bool:
    """Whether a port leads to a host on a switch of which the VID is offered."""
    nic = far_end(plan, port.id)
    uplink = plan.of("uplink").get(getattr(nic, "uplink", None))
    if uplink is None:
        return False
    places = (*plan.where("port_group", "switch", uplink.switch), *plan.where("host_port", "switch", uplink.switch))
    return any(place.vid == vid for place in places)
