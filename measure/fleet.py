"""Synthetic fleets with a realistic structure: racks of hosts under pairs of switches, spines above, and a share of faults."""

from __future__ import annotations

import random
from typing import Any

from aptwire.plan.checks import make_record
from aptwire.plan.edits import Operation, Patch, Put, apply_edit
from aptwire.plan.kinds import Record
from aptwire.plan.plan import Plan

RACK = 20


def fleet(hosts: int, adapters_each: int = 20, vlans: int = 100, faults: float = 0.01, seed: int = 1) -> Plan:
    """A plan of `hosts` hosts; `faults` is the share of port groups and fabric ports that are wrong."""
    dice = random.Random(seed)
    records: dict[str, dict[str, Record]] = {}

    def put(kind: str, id: str, **values: Any) -> str:
        records.setdefault(kind, {})[id] = make_record(kind, {"id": id, **values})
        return id

    guest_vids = [1000 + n for n in range(vlans)]
    everything = f"110, 120, 130, {guest_vids[0]}-{guest_vids[-1]}"
    for vid, name in ((110, "management"), (120, "migration"), (130, "storage")):
        put("segment", f"seg-{vid}", name=name, vid=vid)
    for vid in guest_vids:
        put("segment", f"seg-{vid}", name=f"berth group {vid}", vid=vid)
    racks = -(-hosts // RACK)
    spines = [put("fabric_switch", f"spine-{n}", name=f"spine-{n}") for n in range(1 if racks < 3 else 2)]
    for rack in range(racks):
        for side in "ab":
            leaf = put("fabric_switch", f"leaf-{rack}{side}", name=f"leaf-{rack}{side}", site=f"hall {rack // 5}")
            spine = spines[0] if side == "a" else spines[-1]
            up = put("fabric_port", f"{leaf}/up", switch=leaf, name="up", mode="trunk", allowed=everything)
            down = put("fabric_port", f"{spine}/{leaf}", switch=spine, name=leaf, mode="trunk", allowed=everything)
            put("cable", f"c-{leaf}", a=up, b=down)
    if len(spines) == 2:
        for n, spine in enumerate(spines):
            put("fabric_port", f"{spine}/x", switch=spine, name="x", mode="trunk", allowed=everything)
            if n:
                put("cable", "c-spines", a=f"{spines[0]}/x", b=f"{spine}/x")
    for number in range(hosts):
        host = put("host", f"host-{number}", name=f"tern-{number:04d}", site=f"hall {number // RACK // 5}")
        switch = put("virtual_switch", f"{host}/guests", host=host, name="guests0", mtu=1500)
        uplink = put("uplink", f"{host}/team", switch=switch, name="team0", mode="standby")
        local = dice.sample(guest_vids, min(len(guest_vids), 8))
        for n, side in enumerate("ab"):
            nic = put("nic", f"{host}/nic{n}", host=host, name=f"nic{n}", uplink=uplink, rank=n, speed=10_000)
            leaf = f"leaf-{number // RACK}{side}"
            allowed = everything
            if dice.random() < faults:
                kept = sorted({110, 120, 130, *guest_vids} - {dice.choice(local)})
                allowed = ", ".join(map(str, kept))
            port = put(
                "fabric_port", f"{leaf}/p{number}", switch=leaf, name=f"p{number % RACK}", mode="trunk", allowed=allowed
            )
            put("cable", f"c-{host}-{n}", a=nic, b=port)
        for vid, name in ((110, "mgmt"), (120, "move"), (130, "store")):
            address = f"10.{64 + (vid // 10 - 11)}.{number // 250}.{number % 250 + 1}/16"
            put(
                "host_port",
                f"{host}/{name}",
                switch=switch,
                name=name,
                vid=vid,
                belongs=f"seg-{vid}",
                addresses=[address],
            )
        groups = []
        for vid in local:
            tag = dice.choice(guest_vids) if dice.random() < faults else vid
            group = f"{host}/g{vid}"
            groups.append((put("port_group", group, switch=switch, name=f"vlan {vid}", mode="access", vid=tag), vid))
        for n in range(adapters_each):
            guest = put("guest", f"{host}/guest-{n}", host=host, name=f"guest-{number}-{n}")
            group, vid = groups[n % len(groups)]
            put("adapter", f"{host}/a{n}", guest=guest, name=f"tap{n}", port_group=group, belongs=f"seg-{vid}")
    return Plan(f"{hosts} hosts", records)


def with_routers(plan: Plan, routers: int = 50, lines: int = 20) -> Plan:
    """The same fleet with addresses for every guest, a gateway for every segment of theirs at one of some routers, which send the rest over a segment between
    them, and filter lines at each; seven of eight segments are production, the others test."""
    segments = sorted((s for s in plan.all("segment") if s.vid >= 1000), key=lambda s: s.id)
    number = {segment.id: n for n, segment in enumerate(segments)}
    edit: list[Operation] = []

    def put(kind: str, id: str, **values: Any) -> str:
        edit.append(Put(make_record(kind, {"id": id, **values})))
        return id

    def net(n: int) -> str:
        return f"10.{128 + n // 64}.{n % 64 * 4}.0/22"

    seated: dict[int, int] = {}
    for adapter in sorted(plan.all("adapter"), key=lambda a: a.id):
        n = number[adapter.belongs]
        at = seated[n] = seated.get(n, 0) + 1
        address = f"10.{128 + n // 64}.{n % 64 * 4 + at // 250}.{at % 250 + 2}/22"
        edit.append(Patch("adapter", adapter.id, {"addresses": [address]}))
    for n, segment in enumerate(segments):
        role = "production" if n % 8 else "test"
        gateway = net(n).removesuffix("0/22") + "1"
        edit.append(Patch("segment", segment.id, {"gateways": [gateway], "subnets": [net(n)], "role": role}))
    edit += [Patch("segment", f"seg-{vid}", {"role": role}) for vid, role in ((110, "management"), (130, "storage"))]
    put("segment", "transit", name="transit", vid=900, role="edge", subnets=["10.250.0.0/24"])
    spine = "spine-0"

    def station(name: str, address: str) -> None:
        port = put("fabric_port", f"port-{name}", switch=spine, name=name, mode="trunk", allowed="900-4094")
        put("station", name, name=name, routes=True)
        put("station_port", f"{name}/900", station=name, port=port, vid=900, belongs="transit", addresses=[address])

    station("core", "10.250.0.1/24")
    for r in range(routers):
        station(f"router{r}", f"10.250.0.{r + 2}/24")
        put("route", f"out-{r}", of=f"router{r}", to=["0.0.0.0/0"], via="10.250.0.1")
        behind = [net(n) for n in range(r, len(segments), routers)]
        put("route", f"in-{r}", of="core", to=behind, via=f"10.250.0.{r + 2}")
        for k in range(lines):
            far = net((r + k * 7) % len(segments))
            said = {"sources": [far], "targets": behind[:1], "action": "deny", "protocol": "tcp", "ports": str(22 + k)}
            put("filter_line", f"line-{r}-{k}", of=f"router{r}", order=10 * k + 10, **said)
    for n, segment in enumerate(segments):
        router = f"router{n % routers}"
        own = {"vid": segment.vid, "belongs": segment.id, "addresses": [net(n).replace(".0/22", ".1/22")]}
        put("station_port", f"{router}/{segment.vid}", station=router, port=f"port-{router}", **own)
    return apply_edit(plan, tuple(edit))[0]


def with_leases(plan: Plan) -> Plan:
    """The fleet with routers, of whose guests all ask for a lease: every second segment's router leases, the others ask a server behind the core."""
    edit: list[Operation] = [
        Patch("adapter", adapter.id, {"addresses": [], "addressing": "lease"}) for adapter in plan.all("adapter")
    ]

    def put(kind: str, id: str, **values: Any) -> None:
        edit.append(Put(make_record(kind, {"id": id, **values})))

    put("station", "leaser", name="leaser")
    put("fabric_port", "port-leaser", switch="spine-0", name="leaser", mode="trunk", allowed="900")
    own = {"vid": 900, "belongs": "transit", "addresses": ["10.250.0.200/24"]}
    put("station_port", "leaser/900", station="leaser", port="port-leaser", **own)
    put("route", "leaser-out", of="leaser", to=["0.0.0.0/0"], via="10.250.0.1")
    for n, segment in enumerate(sorted((s for s in plan.all("segment") if s.gateways), key=lambda s: s.id)):
        (gateway,), (net,) = segment.gateways, segment.subnets
        base = net.rsplit(".", 1)[0].rsplit(".", 1)
        pool = [f"{base[0]}.{base[1]}.2-{base[0]}.{int(base[1]) + 3}.250"]
        port = next(p for p in plan.where("station_port", "belongs", segment.id) if p.station != "core")
        owner = port.station if n % 2 else "leaser"
        put("lease_scope", f"scope-{n}", of=owner, subnet=net, pool=pool, gateways=[gateway])
        if n % 2 == 0:
            put("lease_relay", f"relay-{n}", at=port.id, to=["10.250.0.200"])
    return apply_edit(plan, tuple(edit))[0]


def with_adverts(plan: Plan) -> Plan:
    """The fleet with routers, of whose guests all form addresses of the IPv6 prefix that their segment's router advertises."""
    edit: list[Operation] = [
        Patch("adapter", adapter.id, {"addressing6": "advertised"}) for adapter in plan.all("adapter")
    ]
    for n, segment in enumerate(sorted((s for s in plan.all("segment") if s.gateways), key=lambda s: s.id)):
        net, own = f"2001:db8:{n:x}::/64", f"2001:db8:{n:x}::1"
        more = {"subnets": [*segment.subnets, net], "gateways": [*segment.gateways, own]}
        edit.append(Patch("segment", segment.id, more))
        port = next(p for p in plan.where("station_port", "belongs", segment.id) if p.station != "core")
        edit.append(Patch("station_port", port.id, {"addresses": [*port.addresses, f"{own}/64"]}))
        said = {"id": f"advert-{n}", "at": port.id, "prefixes": [net]}
        edit.append(Put(make_record("advertisement", said)))
    return apply_edit(plan, tuple(edit))[0]
