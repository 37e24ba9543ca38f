"""What the kernel can't express is taken out of the plan before it is built, and said.

A question whose answer depends on something that was taken out is not tried (`questions` compares the engine's answers on
the whole plan and on what is left of it).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.domains import core_links
from aptwire.forward.fabric import joints_of, loops
from aptwire.forward.parts import NOW, Link, State
from aptwire.forward.wiring import Wiring
from aptwire.plan.edits import Drop, Edit, Operation, Patch, apply_edit
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import LEARNED, PLACES, FabricPort, Nic, Uplink
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.plan.sharing import whole_lag
from aptwire.plan.stacks import gateways_of


@dataclass(frozen=True)
class Left:
    """Something that the kernel can't express: the record, and why."""

    record: str
    reason: str

    def to_json(self) -> dict[str, str]:
        """For a program."""
        return {"record": self.record, "reason": self.reason}


@dataclass(frozen=True)
class Fitted:
    """A plan without what the kernel can't express, and what was left out."""

    plan: Plan
    left: tuple[Left, ...]


def fit(plan: Plan) -> Fitted:
    """The part of a plan that the kernel can build."""
    left: list[Left] = []
    for step in (
        _shares,
        _unfiltered,
        _knowing,
        _orders,
        _wireless,
        _lags,
        _teams,
        _functions,
        _overlays,
        _unsaid,
        _trees,
        _loops,
    ):
        operations: list[Operation] = []
        for found, edit in step(plan):
            left.append(found)
            operations.extend(edit)
        if operations:
            plan, _ = apply_edit(plan, tuple(operations))
    return Fitted(plan, tuple(left))


Step = Iterator[tuple[Left, Edit]]


def _shares(plan: Plan) -> Step:
    for uplink in sorted(plan.having("uplink", "over"), key=lambda u: u.id):
        if not plan.where("uplink", "over", uplink.id):
            reason = (
                f"{called(plan, uplink)} goes over what another one has; states of that kind are tried as they are read"
            )
            yield Left(uplink.id, reason), (Drop("uplink", uplink.id),)


def _unfiltered(plan: Plan) -> Step:
    for switch in sorted(plan.grouped("virtual_switch", "filters").get(False, ()), key=lambda s: s.id):
        reason = f"{called(plan, switch)} filters nothing; states of that kind are tried as they are read"
        yield Left(switch.id, reason), (Patch("virtual_switch", switch.id, {"filters": True}),)
    for switch in sorted(plan.having("virtual_switch", "host_untagged"), key=lambda s: s.id):
        reason = (
            f"{called(plan, switch)} hands VLANs to the host untagged; states of that kind are tried as they are read"
        )
        yield Left(switch.id, reason), (Patch("virtual_switch", switch.id, {"host_untagged": None}),)


def _knowing(plan: Plan) -> Step:
    for switch in sorted((s for s in plan.all("virtual_switch") if s.returning != LEARNED), key=lambda s: s.id):
        reason = f"{called(plan, switch)} knows its adapters’ addresses; states of that kind are tried as they are read"
        yield Left(switch.id, reason), (Patch("virtual_switch", switch.id, {"returning": LEARNED}),)


def _unsaid(plan: Plan) -> Step:
    for line in sorted((line for line in plan.all("filter_line") if line.action == "unknown"), key=lambda one: one.id):
        yield Left(line.id, f"nobody said what {called(plan, line)} does"), (Drop("filter_line", line.id),)


def _orders(plan: Plan) -> Step:
    for order in plan.all("group_order"):
        group = plan.get("port_group", order.port_group)
        yield (
            Left(order.id, f"a bond has one order of its members; that of {called(plan, group)} is its own"),
            (Drop("group_order", order.id),),
        )


def _wireless(plan: Plan) -> Step:
    for nic in plan.all("nic"):
        if nic.wireless and nic.uplink:
            yield (
                Left(nic.id, f"{called(plan, nic)} is wireless; the kernel has only cables here"),
                (Patch("nic", nic.id, {"wireless": False, "link": "down"}),),
            )


def _functions(plan: Plan) -> Step:
    """LACP doesn't pass the bridge that stands for the NIC's own switch, and a LAG may send to the NIC beside it."""
    for nic in sorted(plan.all("nic"), key=lambda n: n.id):
        uplink = plan.of("uplink").get(nic.uplink)
        functions = sorted(plan.where("adapter", "function_of", nic.id), key=lambda a: a.id)
        if uplink is None or uplink.mode not in ("hashed", "lacp") or not functions:
            continue
        for adapter in functions:
            edit: list[Operation] = [Drop("guest_tag", t.id) for t in plan.where("guest_tag", "adapter", adapter.id)]
            edit.append(Drop("adapter", adapter.id))
            yield Left(adapter.id, f"{called(plan, adapter)} is a function of a NIC in a LAG"), tuple(edit)


def ports_behind(plan: Plan, nics: list[Nic]) -> dict[str, FabricPort]:
    """The enabled fabric ports that NICs are plugged into, by NIC."""
    ports = plan.of("fabric_port")
    found: dict[str, FabricPort] = {}
    for nic in nics:
        for own, other in (("a", "b"), ("b", "a")):
            for cable in plan.where("cable", own, nic.id):
                port = ports.get(getattr(cable, other))
                if port is not None and port.enabled:
                    found[nic.id] = port
    return found


def alike(plan: Plan, ports: list[FabricPort]) -> bool:
    """Whether ports of one switch treat frames alike, as members of one bond must."""
    said = {
        (p.switch, p.mode, p.vid, p.allowed, p.native, p.pvid, p.members, p.untagged, p.admits, p.enabled)
        for p in ports
    }
    return len(said) <= 1


def _lags(plan: Plan) -> Step:
    """A LAG becomes one bond, and that is one bridge port with one set of VIDs and one far side."""
    far = {}
    for cable in plan.all("cable"):
        far[cable.a], far[cable.b] = cable.b, cable.a
    nics = plan.of("nic")
    for lag in sorted(plan.all("lag"), key=lambda g: g.id):
        ports = sorted(plan.where("fabric_port", "lag", lag.id), key=lambda p: p.id)
        others = set()
        for port in ports:
            other = far.get(port.id)
            nic = nics.get(other)
            peer = plan.of("fabric_port").get(other)
            others.add(nic.uplink if nic is not None else peer.lag if peer is not None else None)
        why = ""
        if len(whole_lag(plan, lag.id)) > 1:
            why = "it is one with the LAG of another switch, which two kernels aren’t"
        elif not alike(plan, ports):
            why = "its ports differ, and a bond is one bridge port"
        elif len(others - {None}) != 1 or None in others:
            why = "its ports don’t all lead to one team or one LAG"
        else:
            (other,) = others
            uplink = plan.of("uplink").get(other)
            peer = plan.of("lag").get(other)
            mode = uplink.mode if uplink is not None else ""
            if uplink is not None and (mode != "lacp" if lag.lacp else mode != "hashed"):
                why = f"{called(plan, uplink)} is {mode}, and which port answers take is not the kernel’s to say alone"
            elif peer is not None and peer.lacp != lag.lacp:
                why = f"it and {called(plan, peer)} don’t speak the same way"
            elif uplink is not None and len({n.speed for n in plan.where("nic", "uplink", uplink.id)}) > 1:
                why = f"{called(plan, uplink)} mixes speeds, which veth pairs don’t have"
        if why:
            keep = ports[0].id if ports else ""
            edit: list[Operation] = [Patch("fabric_port", p.id, {"lag": None}) for p in ports]
            edit += [Patch("fabric_port", p.id, {"enabled": False}) for p in ports if p.id != keep]
            yield Left(lag.id, f"{called(plan, lag)}: {why}"), (*edit, Drop("lag", lag.id))


def _teams(plan: Plan) -> Step:
    """Hashed and LACP teams need the LAG on the far side; without it only their first member is built."""
    for uplink in sorted(plan.all("uplink"), key=lambda u: u.id):
        nics = sorted(plan.where("nic", "uplink", uplink.id), key=lambda n: (n.rank, n.name))
        nics = [n for n in nics if n.role != "excluded"]
        if uplink.mode not in ("hashed", "lacp") or len(nics) < 2:
            if uplink.mode == "lacp":
                yield _single(plan, uplink, nics, "an LACP team of one NIC")
            continue
        behind = ports_behind(plan, nics)
        lags = {behind[n.id].lag if n.id in behind else None for n in nics}
        if len(lags) > 1 or None in lags:
            yield _single(plan, uplink, nics, "there is no LAG for it on the far side")


def _single(plan: Plan, uplink: Uplink, nics: list[Nic], why: str) -> tuple[Left, Edit]:
    edit: list[Operation] = [Patch("uplink", uplink.id, {"mode": "standby"})]
    edit += [Patch("nic", n.id, {"role": "excluded"}) for n in nics[1:]]
    return Left(uplink.id, f"{called(plan, uplink)} is {uplink.mode}: {why}, so what carries isn’t known"), tuple(edit)


def _overlays(plan: Plan) -> Step:
    """A kernel keeps one tunnel device for a VNI in a network namespace; and it sends to one of those who bear its gateway's address."""
    seen: dict[tuple[str, int], str] = {}
    bearers = Counter(bare_address(a) for kind in PLACES for r in plan.all(kind) for a in r.addresses)
    for group in sorted(plan.where("port_group", "mode", "overlay"), key=lambda g: g.id):
        port = plan.get("host_port", group.over)
        first = seen.setdefault((plan.get("virtual_switch", port.switch).host, group.vni), group.over)
        why = ""
        if first != group.over:
            why = "its VNI is carried by another host port of the host already"
        elif any(bearers[address] > 1 for address in gateways_of(plan, port)):
            why = "several machines bear the address of its host port’s gateway, and which one answers isn’t known"
        if why:
            edit = [Patch("adapter", a.id, {"port_group": None}) for a in plan.where("adapter", "port_group", group.id)]
            yield Left(group.id, f"{called(plan, group)}: {why}"), (*edit, Drop("port_group", group.id))


def _trees(plan: Plan) -> Step:
    """The kernel's path costs have 16 bits, and an unmanaged switch between would hand its BPDUs on."""
    part = [s for s in plan.all("fabric_switch") if s.spanning_tree]
    joints = [j for j in joints_of(plan) if any(plan.get("fabric_switch", e).spanning_tree for e in j.ends)]
    mixed = _between(plan)
    if not part or (not mixed and all(j.cost < 65_536 for j in joints) and all(s.mac for s in part)):
        return
    why = "some switches in it take no part" if mixed else "a path cost is too large, or a switch has no address"
    blocked = compile_wiring(plan).fabric.tree.blocked
    for joint in joints:
        if joint.key in blocked:
            yield (
                Left(joint.key, f"the spanning tree, which blocks {joint.key}, can’t be left to the kernel: {why}"),
                tuple(Drop("cable", c) for c in joint.cables),
            )
    for switch in part:
        yield (
            Left(switch.id, f"{called(plan, switch)}: spanning tree not built, {why}"),
            (Patch("fabric_switch", switch.id, {"spanning_tree": False}),),
        )


def _between(plan: Plan) -> bool:
    """Whether switches that take no part in the tree join some that do: they would hand the tree's frames on."""
    switches = plan.of("fabric_switch")
    group = {id: id for id, s in switches.items() if not s.spanning_tree}

    def top(id: str) -> str:
        while group[id] != id:
            id = group[id]
        return id

    edges = [j.ends for j in joints_of(plan)]
    for a, b in edges:
        if a in group and b in group:
            group[top(a)] = top(b)
    touching = [top(a if a in group else b) for a, b in edges if (a in group) != (b in group)]
    return len(touching) != len(set(touching))


def _loops(plan: Plan) -> Step:
    """In a loop a real broadcast goes round for ever."""
    # Without its first cable a team goes over the next one, which closes the same loop.
    while found := looping(compile_wiring(plan)):
        for cable in found:
            ends = (plan.get("cable", cable).a, plan.get("cable", cable).b)
            dead = [Patch("nic", end, {"link": "down"}) for end in ends if end in plan.of("nic")]
            edit: Edit = (Drop("cable", cable), *dead)
            yield Left(cable, f"{cable} closes a loop, in which a broadcast would never end"), edit
            plan, _ = apply_edit(plan, edit)


def looping(wiring: Wiring, state: State = NOW) -> list[str]:
    """The cables that close a loop in a state, whatever VIDs they carry."""
    # What has no cable (a NIC's own switch) comes first, so that it is a cable that closes the loop.
    links = {link.cable or link.key: link for link in core_links(wiring, state)}
    every = sorted(links.values(), key=lambda link: link.cable is not None)
    found = [str(loop.link.cable) for loop in loops(every, lambda link, side: [0])]
    return [cable for cable in found if not _changes_vid(wiring, links[cable])]


def _changes_vid(wiring: Wiring, link: Link) -> bool:
    """Whether a cable from a switch to itself carries one VLAN into another, where frames stay: no loop."""
    ports: list[FabricPort] = [
        wiring.plan.get("fabric_port", r[-1]) for r in link.records if link.ends[0] == link.ends[1]
    ]
    if any(p.mode != "access" or not wiring.plan.get("fabric_switch", p.switch).managed for p in ports):
        return False
    return len({p.vid for p in ports}) == 2
