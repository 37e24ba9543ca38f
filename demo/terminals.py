"""Writes the second demo plan: the whole company, 120 hosts at six terminals with 60 segments, a pattern for each terminal, and the faults of a week.

python demo/terminals.py FILE
"""

from __future__ import annotations

import pathlib
import random
import sys

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent / "core"))

from aptwire.plan.checks import check_plan, make_record
from aptwire.plan.edits import Drop, Edit, Patch, Put, apply_edit
from aptwire.plan.file import write_plan
from aptwire.plan.plan import Plan, PlanError
from aptwire.stamping.making import from_host
from aptwire.stamping.stamp import stamp

NAME = "All terminals"
TERMINALS = {
    "Northquay": ("gannet", 30),
    "Saltmarsh": ("plover", 26),
    "Grebe Point": ("grebe", 20),
    "Longmere": ("heron", 20),
    "Eider Sound": ("eider", 14),
    "Outer Holm": ("puffin", 10),
}
RACK = 10
INFRASTRUCTURE = {"management": 110, "migration": 120, "storage": 130, "backup": 140}
EVERYWHERE = {"edge": ("edge", 300), "test": ("test", 310)}
AT_EACH = {
    "ticketing": "production",
    "gates": "production",
    "berth planning": "production",
    "tide gauges": "production",
    "CCTV": "production",
    "crew": "production",
    "freight": "production",
    "visitors": "edge",
    "workshop": "production",
}
GUESTS = 14


def segments() -> Edit:
    """The 60 segments: four of the infrastructure, two everywhere, nine at each of the six terminals."""
    made = [("management", name, vid, f"10.{64 + n}.0.0/16") for n, (name, vid) in enumerate(INFRASTRUCTURE.items())]
    made = [(name, name, vid, subnet) for (_, name, vid, subnet) in made]
    made += [(role, name, vid, f"10.80.{n}.0/24") for n, (name, (role, vid)) in enumerate(EVERYWHERE.items())]
    for t, terminal in enumerate(TERMINALS, 1):
        for n, (what, role) in enumerate(AT_EACH.items()):
            made.append((role, f"{what}, {terminal}", 1000 + 100 * t + 10 * n, f"10.{100 + t}.{n}.0/24"))
    return tuple(
        Put(make_record("segment", {"id": f"seg-{vid}", "name": name, "role": role, "vid": vid, "subnets": [subnet]}))
        for role, name, vid, subnet in made
    )


def vids_at(terminal: str) -> list[int]:
    """The VIDs that a terminal's ports let through."""
    first = 1000 + 100 * (1 + list(TERMINALS).index(terminal))
    own = [first + 10 * n for n in range(len(AT_EACH))]
    return [*INFRASTRUCTURE.values(), *(vid for _, vid in EVERYWHERE.values()), *own]


def fabric() -> Edit:
    """Two core switches, and at each terminal a pair of switches for each rack, wired to both of them."""
    made: list[Put] = []

    def put(kind: str, id: str, **values: object) -> str:
        made.append(Put(make_record(kind, {"id": id, **values})))
        return id

    def trunk(switch: str, name: str, vids: list[int]) -> str:
        allowed = ", ".join(map(str, vids))
        return put("fabric_port", f"{switch}/{name}", switch=switch, name=name, mode="trunk", allowed=allowed)

    every = sorted({vid for terminal in TERMINALS for vid in vids_at(terminal)})
    cores = [put("fabric_switch", f"core-{side}", name=f"core-{side}", site="Northquay") for side in "ab"]
    put("cable", "c-cores", a=trunk(cores[0], "x", every), b=trunk(cores[1], "x", every))
    for terminal, (bird, hosts) in TERMINALS.items():
        for rack in range(-(-hosts // RACK)):
            for n, side in enumerate("ab"):
                leaf = put("fabric_switch", f"{bird}-{rack}{side}", name=f"{bird}-{rack}{side}", site=terminal)
                up, down = trunk(leaf, "up", vids_at(terminal)), trunk(cores[n], leaf, vids_at(terminal))
                put("cable", f"c-{leaf}", a=up, b=down)
    return tuple(made)


def bare(terminal: str, number: int) -> Edit:
    """A host with its NICs, plugged into its rack's pair."""
    bird, _ = TERMINALS[terminal]
    host = f"{bird}-{number:02d}"
    made = [Put(make_record("host", {"id": host, "name": host, "site": terminal}))]
    allowed = ", ".join(map(str, vids_at(terminal)))
    for n in range(4):
        leaf = f"{bird}-{number // RACK}{'ab'[n % 2]}"
        name = f"p{number % RACK * 2 + n // 2}"
        nic = {"id": f"{host}/nic{n}", "host": host, "name": f"nic{n}", "rank": n, "speed": 25_000}
        port = {"id": f"{leaf}/{name}", "switch": leaf, "name": name, "mode": "trunk", "allowed": allowed}
        made += [Put(make_record("nic", nic)), Put(make_record("fabric_port", port))]
        made.append(Put(make_record("cable", {"id": f"c-{host}-{n}", "a": nic["id"], "b": port["id"]})))
    return tuple(made)


def furnished(plan: Plan, terminal: str) -> Edit:
    """The first host of a terminal as all are to be: its own needs on one pair of NICs, guests on the other."""
    host = f"{TERMINALS[terminal][0]}-00"
    made: list[Put | Patch] = []

    def put(kind: str, id: str, **values: object) -> str:
        made.append(Put(make_record(kind, {"id": id, **values})))
        return id

    for name, nics in (("host0", (0, 1)), ("guests0", (2, 3))):
        switch = put("virtual_switch", f"{host}/{name}", host=host, name=name, mtu=1500)
        uplink = put("uplink", f"{switch}/team0", switch=switch, name="team0", mode="standby")
        made += [Patch("nic", f"{host}/nic{n}", {"uplink": uplink}) for n in nics]
    site = 1 + list(TERMINALS).index(terminal)
    for n, (name, vid) in enumerate(INFRASTRUCTURE.items()):
        put(
            "host_port",
            f"{host}/host0/{name}",
            switch=f"{host}/host0",
            name=name[:4],
            vid=vid,
            belongs=f"seg-{vid}",
            services=[name],
            addresses=[f"10.{64 + n}.{site}.10/16"],
        )
    names = {s.vid: s.name.partition(",")[0] for s in plan.of("segment").values()}
    for vid in vids_at(terminal)[len(INFRASTRUCTURE) :]:
        group = f"{host}/guests0/{vid}"
        put("port_group", group, switch=f"{host}/guests0", name=names[vid], mode="access", vid=vid)
    return tuple(made)


def guests(plan: Plan, terminal: str, number: int) -> Edit:
    """The guests of a host, spread over its port groups."""
    host = f"{TERMINALS[terminal][0]}-{number:02d}"
    groups = [
        group
        for switch in plan.where("virtual_switch", "host", host)
        for group in sorted(plan.where("port_group", "switch", switch.id), key=lambda g: g.vid or 0)
    ]
    made = []
    for n in range(GUESTS):
        group = groups[(n + number) % len(groups)]
        name = f"{group.name.replace(' ', '-').lower()}-{host}-{n}"
        made.append(Put(make_record("guest", {"id": name, "name": name, "host": host})))
        tap = {"id": f"{name}/tap", "guest": name, "name": f"tap-{host}-{n}", "port_group": group.id}
        made.append(Put(make_record("adapter", {**tap, "belongs": f"seg-{group.vid}"})))
    return tuple(made)


def faults(plan: Plan) -> Edit:
    """What went wrong in a week: tags left out, a port group mistyped, a host that was changed by hand, a cable pulled."""
    dice = random.Random(7)
    made: list[Patch | Drop] = []
    ports = sorted(id for id in plan.of("fabric_port") if "/p" in id)
    for id in dice.sample(ports, 7):
        held = plan.get("fabric_port", id).allowed.split(", ")
        held.remove(dice.choice(held[4:]))
        made.append(Patch("fabric_port", id, {"allowed": ", ".join(held)}))
    for id in dice.sample(sorted(g for g in plan.of("port_group") if not g.startswith("gannet")), 4):
        made.append(Patch("port_group", id, {"vid": plan.get("port_group", id).vid + 5}))
    switch = plan.where("virtual_switch", "host", "heron-07")[0]
    made.append(Patch("virtual_switch", switch.id, {"mtu": 9000}))
    made.append(Drop("cable", "c-puffin-03-1"))
    return tuple(made)


def build() -> Plan:
    """The whole plan, checked."""
    plan, _ = apply_edit(Plan(NAME), (*segments(), *fabric()))
    for terminal, (bird, hosts) in TERMINALS.items():
        for number in range(hosts):
            plan, _ = apply_edit(plan, bare(terminal, number))
        plan, _ = apply_edit(plan, furnished(plan, terminal))
        before = set(plan.of("pattern"))
        plan, _ = apply_edit(plan, from_host(plan, f"{bird}-00", f"{terminal} hosts"))
        (pattern,) = set(plan.of("pattern")) - before
        plan, _ = apply_edit(plan, stamp(plan, pattern, [f"{bird}-{n:02d}" for n in range(1, hosts)]))
        for number in range(hosts):
            plan, _ = apply_edit(plan, guests(plan, terminal, number))
    plan, _ = apply_edit(plan, faults(plan))
    problems = check_plan(plan)
    if problems:
        raise PlanError(problems)
    return plan


if __name__ == "__main__":
    pathlib.Path(sys.argv[1]).write_bytes(write_plan(build()))
