"""Shared by the tests: real input from examples/, the demo plan, and random fleets."""

from __future__ import annotations

import pathlib
import random
import unittest
from collections.abc import Callable
from typing import Any

from aptwire.forward.parts import Place
from aptwire.forward.wiring import Wiring
from aptwire.judge.findings import Finding, findings
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import judge
from aptwire.plan.checks import check_plan, make_record
from aptwire.plan.file import read_plan
from aptwire.plan.kinds import Record
from aptwire.plan.plan import Plan

ROOT = pathlib.Path(__file__).resolve().parent.parent
TWO_HOSTS = ROOT / "examples" / "two-hosts"
STATES = ROOT / "tests" / "states"
"""Fleets as nobody plans them, read off a running kernel with what their frames did."""


def files_of(folder: pathlib.Path) -> dict[str, bytes]:
    """The files of captured states, by relative path."""
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def two_hosts_files() -> dict[str, bytes]:
    """The captured host states, by relative path."""
    return files_of(TWO_HOSTS)


def demo_plan() -> Plan:
    """The Brackwater Ferries plan."""
    return read_plan((ROOT / "demo" / "brackwater.json").read_bytes())


def plan_of(**kinds: list[dict[str, Any]]) -> Plan:
    """A small plan from JSON records by kind; it must be sound."""
    records: dict[str, dict[str, Record]] = {}
    for kind, items in kinds.items():
        for item in items:
            record = make_record(kind, item)
            records.setdefault(kind, {})[record.id] = record
    plan = Plan("test", records)
    problems = check_plan(plan)
    assert not problems, [str(p) for p in problems]
    return plan


def all_places(wiring: Wiring) -> list[Place]:
    """Every place of a compiled plan, by record."""
    records = sorted(record for block in wiring.blocks.values() for record in block.stand_of)
    return [place for record in records if (place := wiring.place(record)) is not None]


VIDS = [10, 20, 30, 40]


def random_plan(seed: int, rich: bool = False, odd: bool = False) -> Plan:
    """A small fleet with every mode of port and uplink, right and wrong tags, open ends and loops of natives.

    A rich one also has spanning trees, LAGs, private VLANs, stations, direct adapters, wireless NICs, team orders
    and overlays.  An odd one has ports in the standard's own words, isolated and reflecting ones, switches that filter nothing, adapters
    with words of their own, NICs that uplinks share, and switches upon host ports.
    """
    dice = random.Random(seed)
    made: dict[str, list[dict[str, Any]]] = {}

    def put(kind: str, id: str, **values: Any) -> str:
        made.setdefault(kind, []).append({"id": id, **{k: v for k, v in values.items() if v is not None}})
        return id

    def some() -> str:
        return ", ".join(str(v) for v in sorted(dice.sample(VIDS, dice.choice([1, 3, 4, 4]))))

    def port(switch: str, name: str, uniform: bool) -> str:
        if not uniform and dice.random() < 0.2:
            return put(
                "fabric_port", f"{switch}/{name}", switch=switch, name=name, mode="access", vid=dice.choice(VIDS)
            )
        native = dice.choice([None, None, *VIDS]) if not uniform or dice.random() < 0.3 else None
        allowed = some() if not uniform or dice.random() < 0.2 else "10, 20, 30, 40"
        return put(
            "fabric_port", f"{switch}/{name}", switch=switch, name=name, mode="trunk", allowed=allowed, native=native
        )

    for vid in VIDS:
        gate = [f"10.64.{vid}.1"] if dice.random() < 0.5 else []
        put("segment", f"seg-{vid}", name=f"segment {vid}", vid=vid, gateways=gate)
    put("segment", "seg-plain", name="plain")
    switches = [
        put(
            "fabric_switch",
            f"sw{n}",
            name=f"sw{n}",
            managed=dice.random() > 0.1,
            vlans=dice.choice([None, None, some()]),
        )
        for n in range(dice.randint(1, 3))
    ]
    for n in range(1, len(switches)):
        a, b = port(switches[n - 1], f"x{n}", True), port(switches[n], f"y{n}", True)
        put("cable", f"c-x{n}", a=a, b=b)
    ports = 0
    for h in range(dice.randint(1, 3)):
        host = put("host", f"h{h}", name=f"h{h}")
        for s in range(dice.randint(1, 2)):
            switch = put("virtual_switch", f"h{h}/s{s}", host=host, name=f"s{s}")
            for u in range(dice.choice([0, 1, 1, 1, 1, 2])):
                uplink = put(
                    "uplink",
                    f"{switch}/u{u}",
                    switch=switch,
                    name=f"u{u}",
                    mode=dice.choice(["standby", "standby", "pinned", "hashed", "lacp"]),
                    allowed=dice.choice([None, None, some(), "0, 10, 20"]),
                    native=dice.choice([None, None, None, 10]),
                )
                for n in range(dice.choice([1, 2, 2])):
                    nic = put(
                        "nic",
                        f"h{h}/n{s}{u}{n}",
                        host=host,
                        name=f"n{s}{u}{n}",
                        uplink=uplink,
                        rank=n,
                        link="down" if dice.random() < 0.05 else "up",
                        role=dice.choice(["active", "active", "standby"]),
                    )
                    if dice.random() < 0.9:
                        ports += 1
                        put(
                            "cable",
                            f"c-{ports}",
                            a=nic,
                            b=port(dice.choice(switches), f"p{ports}", dice.random() < 0.7),
                        )
            for g in range(dice.randint(1, 3)):
                mode = dice.choice(["access", "access", "access", "untagged", "trunk"])
                put(
                    "port_group",
                    f"{switch}/g{g}",
                    switch=switch,
                    name=f"g{g}",
                    mode=mode,
                    vid=dice.choice(VIDS) if mode == "access" else None,
                    allowed=some() if mode == "trunk" else None,
                    native=dice.choice([None, 0, 10]) if mode == "trunk" else None,
                )
            if dice.random() < 0.4:
                own = dice.choice([None, *VIDS])
                put(
                    "host_port",
                    f"{switch}/hp",
                    switch=switch,
                    name="hp",
                    vid=own,
                    belongs=f"seg-{own}" if own else "seg-plain",
                )
        groups = [g for g in made.get("port_group", []) if g["switch"].startswith(f"{host}/")]
        for n in range(dice.randint(1, 4)):
            guest = put("guest", f"g-{h}-{n}", host=host, name=f"guest {h} {n}")
            group = dice.choice(groups)
            right = f"seg-{group['vid']}" if group["mode"] == "access" else "seg-plain"
            belongs = right if dice.random() < 0.8 else dice.choice([f"seg-{v}" for v in VIDS])
            address = f"10.64.{belongs[4:]}.{dice.choice([1, h * 8 + n + 2])}/24" if belongs != "seg-plain" else None
            put(
                "adapter",
                f"a-{h}-{n}",
                guest=guest,
                name=f"tap{n}",
                port_group=group["id"] if dice.random() < 0.95 else None,
                belongs=belongs if group["mode"] != "trunk" else None,
                addresses=[address] if address else [],
            )
            if group["mode"] == "trunk":
                for tag in dice.sample(VIDS, 2):
                    put("guest_tag", f"t-{h}-{n}-{tag}", adapter=f"a-{h}-{n}", vid=tag, belongs=f"seg-{tag}")
    if rich:
        _enrich(made, put, dice)
    if odd:
        _odden(made, put, dice)
    return plan_of(**made)


def _odden(made: dict[str, list[dict[str, Any]]], put: Callable[..., str], dice: random.Random) -> None:
    """Say what shorthand can't, here and there."""

    def standard() -> dict[str, Any]:
        members = sorted(dice.sample(VIDS, dice.randint(1, 4)))
        bare = sorted(dice.sample(members, dice.randint(0, min(2, len(members)))))
        return {
            "members": ", ".join(map(str, members)),
            "untagged": ", ".join(map(str, bare)) or None,
            "pvid": dice.choice([None, *members]),
        }

    def flags() -> dict[str, Any]:
        admits = dice.choice([None, None, "all", "untagged", "tagged"])
        return {"admits": admits, "isolated": dice.random() < 0.2, "reflects": dice.random() < 0.1}

    def change(record: dict[str, Any], **values: Any) -> None:
        record.update(values)
        for name in [name for name, value in record.items() if value is None]:
            del record[name]

    for port in [*made.get("fabric_port", []), *made.get("port_group", [])]:
        if port["mode"] in ("access", "trunk") and dice.random() < 0.25:
            change(port, mode="standard", vid=None, allowed=None, native=None, **standard())
        if port["mode"] in ("access", "trunk", "standard") and dice.random() < 0.4:
            change(port, **flags())
    for switch in made.get("virtual_switch", []):
        if dice.random() < 0.15:
            change(switch, filters=False)
    for adapter in made.get("adapter", []):
        if adapter.get("type") != "direct" and dice.random() < 0.15:
            change(adapter, **dice.choice([standard(), {"admits": "all"}, {"isolated": True}]))
    for uplink in list(made.get("uplink", [])):
        if dice.random() < 0.2:
            change(uplink, allowed=None, native=None, **standard())
        if dice.random() < 0.1:
            change(uplink, isolated=True)
        host = next(s["host"] for s in made["virtual_switch"] if s["id"] == uplink["switch"])
        if dice.random() < 0.4:
            vid = dice.choice([*VIDS, None])
            upper = put(
                "virtual_switch",
                f"{uplink['id']}-up",
                host=host,
                name=f"{uplink['id']}-up",
                filters=dice.random() < 0.3,
            )
            put("uplink", f"{upper}/u", switch=upper, name="u", over=uplink["id"], vid=vid)
            _residents(put, upper, host, vid)
    for port in list(made.get("host_port", [])):
        if dice.random() < 0.3:
            host = next(s["host"] for s in made["virtual_switch"] if s["id"] == port["switch"])
            upper = put("virtual_switch", f"{port['id']}-up", host=host, name=f"{port['id']}-up")
            put("uplink", f"{upper}/u", switch=upper, name="u", over=port["id"])
            _residents(put, upper, host, port.get("vid"))


def _residents(put: Callable[..., str], switch: str, host: str, vid: int | None) -> None:
    group = put("port_group", f"{switch}/g", switch=switch, name="g", mode="untagged")
    guest = put("guest", f"{switch}-guest", host=host, name=f"{switch}-guest")
    belongs = f"seg-{vid}" if vid else "seg-plain"
    put("adapter", f"{switch}-a", guest=guest, name=f"{switch}-tap", port_group=group, belongs=belongs)


def _enrich(made: dict[str, list[dict[str, Any]]], put: Callable[..., str], dice: random.Random) -> None:
    """Add what a plain random plan lacks, in a way that its checks take."""
    put("secondary_vlan", "iso", segment="seg-10", vid=11, type="isolated")
    put("secondary_vlan", "com", segment="seg-10", vid=12, type="community")
    put("segment", "seg-over", name="over", vni=5010)
    switches = made["fabric_switch"]
    for number, switch in enumerate(switches):
        if switch.get("managed", True) and dice.random() < 0.7:
            switch.update(
                spanning_tree=True, priority=dice.choice([0, 4096, 32768]), mac=f"02:00:00:00:00:{number:02x}"
            )
    for number in range(dice.randint(1, 3)):
        a, b = dice.choice(switches)["id"], dice.choice(switches)["id"]
        ends = []
        for side, switch in (("m", a), ("n", b)):
            allowed = dice.choice(["10, 11, 12, 20, 30, 40", "10, 11, 12, 20, 30, 40", "10, 20"])
            end = f"{switch}/{side}{number}"
            ends.append(put("fabric_port", end, switch=switch, name=f"{side}{number}", mode="trunk", allowed=allowed))
        put("cable", f"c-m{number}", a=ends[0], b=ends[1])
    cabled = {c["b"]: c["a"] for c in made["cable"]}
    for uplink in made.get("uplink", ()):
        nics = [n for n in made["nic"] if n["uplink"] == uplink["id"]]
        ports = [p for p in made["fabric_port"] if cabled.get(p["id"]) in {n["id"] for n in nics}]
        if len(nics) == 2 and len(ports) == 2 and ports[0]["switch"] == ports[1]["switch"] and dice.random() < 0.6:
            lag = put("lag", f"lag-{uplink['id']}", switch=ports[0]["switch"], name=f"lag {uplink['id']}")
            made["lag"][-1].update(lacp=dice.random() < 0.6, individual=dice.random() < 0.5)
            for port in ports:
                port["lag"] = lag
        # Two LAGs that are one, where the ports are on two switches; what else is random stays as it is.
        other = random.Random(f"{uplink['id']} {len(made['cable'])} {len(made['fabric_port'])}")
        if len(nics) == 2 and len(ports) == 2 and ports[0]["switch"] != ports[1]["switch"] and other.random() < 0.5:
            said = {"lacp": other.random() < 0.6, "individual": other.random() < 0.5}
            for n, port in enumerate(ports):
                whole = {"beside": f"lag-{uplink['id']}-0"} if n else {}
                port["lag"] = put("lag", f"lag-{uplink['id']}-{n}", switch=port["switch"], name=f"lag {uplink['id']}")
                made["lag"][-1].update(**said, **whole)
        for nic in nics:
            if dice.random() < 0.08:
                nic["wireless"] = True
    for group in made["port_group"]:
        nics = [n for n in made.get("nic", ()) if n["uplink"].startswith(f"{group['switch']}/")]
        single = len([u for u in made.get("uplink", ()) if u["switch"] == group["switch"]]) == 1
        if nics and single and dice.random() < 0.3:
            role = dice.choice(["active", "standby", "excluded"])
            put("group_order", f"o-{group['id']}", port_group=group["id"], nic=nics[-1]["id"], role=role)
        if group["mode"] == "access" and group["vid"] == 10 and dice.random() < 0.7:
            group.update(mode="private", vid=dice.choice([10, 11, 12]))
    for port in made.get("host_port", ()):
        if dice.random() < 0.5:
            host = port["switch"].split("/")[0]
            over = put(
                "port_group",
                f"{port['id']}/over",
                switch=port["switch"],
                name="over",
                mode="overlay",
                vni=5010,
                over=port["id"],
            )
            guest = put("guest", f"og-{port['id']}", host=host, name=f"over {port['id']}")
            put(
                "adapter",
                f"oa-{port['id']}",
                guest=guest,
                name="ov" + port["switch"][-1],
                port_group=over,
                belongs="seg-over",
            )
    for number, nic in enumerate(made.get("nic", ())):
        if dice.random() < 0.15:
            vid = dice.choice(VIDS)
            guest = put("guest", f"dg-{number}", host=nic["host"], name=f"direct {number}")
            function = {"type": "direct", "function_of": nic["id"], "function_vid": vid}
            put("adapter", f"da-{number}", guest=guest, name=f"vf{number}", belongs=f"seg-{vid}", **function)
    for number in range(dice.randint(0, 2)):
        switch = dice.choice(switches)["id"]
        socket = put(
            "fabric_port",
            f"{switch}/st{number}",
            switch=switch,
            name=f"st{number}",
            mode="trunk",
            allowed="10, 20, 30, 40",
        )
        station = put("station", f"st-{number}", name=f"station {number}", routes=number == 0)
        for vid in dice.sample(VIDS, 2):
            put(
                "station_port",
                f"sp-{number}-{vid}",
                station=station,
                port=socket,
                vid=vid,
                belongs=f"seg-{vid}",
                addresses=[f"10.64.{vid}.1/24"],
            )
    # Drawn apart, so that what came before stays as it was.
    sizes = random.Random(len(made["adapter"]) * 7919 + len(made["fabric_port"]))
    for record in (*made.get("nic", ()), *made["fabric_port"], *switches):
        if sizes.random() < 0.15:
            record["mtu"] = sizes.choice([1500, 9000])
    more = random.Random(len(made["adapter"]) * 6007 + len(made["host"]))
    for record in (*made["virtual_switch"], *made["adapter"], *made.get("host_port", ())):
        if more.random() < 0.12:
            record["mtu"] = more.choice([1500, 4040, 4050, 9000])
    # Host ports with addresses: tunnels between their subnets go over a station that routes, if there is one.
    routed = random.Random(len(made["adapter"]) * 5003 + len(made["fabric_port"]))
    known = {port["vid"] for port in made.get("station_port", ()) if port["station"] == "st-0"}
    for vid in VIDS if known and routed.random() < 0.6 else ():
        if vid not in known:
            gate = {"belongs": f"seg-{vid}", "addresses": [f"10.64.{vid}.1/24"]}
            socket = made["station_port"][0]["port"]
            put("station_port", f"sp-0-{vid}", station="st-0", port=socket, vid=vid, **gate)
    for number, port in enumerate(made.get("host_port", ())):
        if port.get("vid") and routed.random() < 0.7:
            port["addresses"] = [f"10.64.{port['vid']}.{100 + number}/24"]
            if routed.random() < 0.6:
                port["gateway"] = f"10.64.{port['vid']}.1"
    for record in (*made["port_group"], *made["adapter"]):
        if record.get("type") != "direct" and sizes.random() < 0.2:
            for name in ("overhear", "foreign_source", "serve_leases", "advertise_routes"):
                if sizes.random() < 0.5:
                    record[name] = sizes.random() < 0.7


class Small:
    """Writes small plans for tests: hosts with one switch each, wired to fabric switches as told."""

    def __init__(self) -> None:
        self.kinds: dict[str, list[dict[str, Any]]] = {}

    def put(self, kind: str, id: str, **values: Any) -> str:
        """A record as it would stand in a plan file."""
        self.kinds.setdefault(kind, []).append({"id": id, **values})
        return id

    def segment(self, vid: int | None, **values: Any) -> str:
        """A segment called s10 for VID 10, or `plain` without a VID."""
        name = f"s{vid}" if vid else "plain"
        return self.put("segment", name, name=name, **({"vid": vid} if vid else {}), **values)

    def fabric(self, name: str, **values: Any) -> str:
        """A fabric switch."""
        return self.put("fabric_switch", name, name=name, **values)

    def trunk(self, port: str, allowed: str, native: int | None = None, **values: Any) -> str:
        """A trunk port called switch/port."""
        switch, name = port.split("/")
        tags = {"allowed": allowed, **({"native": native} if native else {})}
        return self.put("fabric_port", port, switch=switch, name=name, mode="trunk", **tags, **values)

    def access(self, port: str, vid: int, **values: Any) -> str:
        """An access port called switch/port."""
        switch, name = port.split("/")
        return self.put("fabric_port", port, switch=switch, name=name, mode="access", vid=vid, **values)

    def cable(self, a: str, b: str) -> str:
        """A cable between two NICs or ports."""
        return self.put("cable", f"c:{a}:{b}", a=a, b=b)

    def host(self, name: str, *ports: str | None, uplink: dict[str, Any] | None = None, **values: Any) -> str:
        """A host with a switch name/s; one NIC n0, n1, ... for each port (None: left open), all in one uplink."""
        self.put("host", name, name=name, **values)
        self.put("virtual_switch", f"{name}/s", host=name, name="s")
        if ports:
            self.put("uplink", f"{name}/u", switch=f"{name}/s", name="u", **(uplink or {}))
        for n, port in enumerate(ports):
            self.put("nic", f"{name}/n{n}", host=name, name=f"n{n}", uplink=f"{name}/u", rank=n)
            if port:
                self.cable(f"{name}/n{n}", port)
        return name

    def guest(self, host: str, name: str, vid: int | None, belongs: str | None = "", **values: Any) -> str:
        """A guest with one adapter of its name in an access (or untagged) port group for the VID."""
        group = f"{host}/g{vid}"
        if not any(g["id"] == group for g in self.kinds.get("port_group", [])):
            tags = {"mode": "access", "vid": vid} if vid else {"mode": "untagged"}
            self.put("port_group", group, switch=f"{host}/s", name=f"g{vid}", **tags)
        self.put("guest", f"guest-{name}", host=host, name=name)
        own = belongs if belongs != "" else (f"s{vid}" if vid else "plain")
        more = {"belongs": own} if own else {}
        return self.put("adapter", name, guest=f"guest-{name}", name=name, port_group=group, **more, **values)

    def plan(self) -> Plan:
        """The plan, checked."""
        return plan_of(**self.kinds)


def pair(allowed_a: str = "10, 20", allowed_b: str = "10, 20") -> Small:
    """Two hosts a and b on one fabric switch, whose ports allow what is told, and segment 10 with a guest on each."""
    made = Small()
    made.segment(10)
    made.fabric("sw")
    made.trunk("sw/p1", allowed_a)
    made.trunk("sw/p2", allowed_b)
    made.host("a", "sw/p1")
    made.host("b", "sw/p2")
    made.guest("a", "a1", 10)
    made.guest("b", "b1", 10)
    return made


def consolidated(mode: str = "hashed", spare: bool = False, **storage: Any) -> Small:
    """Two hosts with management, migration and storage on two cables each of 10 Gbit/s, `spare` with a NIC left; an array; storage and migration as flows."""
    made = Small()
    for vid, role in ((20, "migration"), (30, "storage")):
        made.segment(vid, role=role, subnets=[f"10.64.{vid}.0/24"])
    made.fabric("sw")
    for n, host in enumerate("ab"):
        ports = [made.trunk(f"sw/{host}{k}", "20, 30", speed=10_000) for k in range(2)]
        made.host(host, *ports, uplink={"mode": mode})
        for nic in made.kinds["nic"][-2:]:
            nic["speed"] = 10_000
        if spare:
            made.put("nic", f"{host}/n2", host=host, name="n2", speed=10_000)
            made.cable(f"{host}/n2", made.trunk(f"sw/{host}2", "20, 30", speed=10_000))
        for vid, service in ((20, "migration"), (30, "storage")):
            own = {"services": [service], "belongs": f"s{vid}", "addresses": [f"10.64.{vid}.{n + 5}/24"]}
            made.put("host_port", f"{host}/{service}", switch=f"{host}/s", name=service, vid=vid, **own)
    made.put("station", "array", name="array")
    port = made.trunk("sw/array", "30", speed=100_000)
    made.put("station_port", "array/30", station="array", port=port, vid=30, belongs="s30", addresses=["10.64.30.1/24"])
    made.put(
        "flow", "st", name="storage", service="storage", towards="one", to="array/30", **(storage or {"sends": 6_000})
    )
    made.put("flow", "mig", name="migration", service="migration", towards="others", sends=9_000, burst=True)
    return made


class JudgedCase(unittest.TestCase):
    """Tests that judge small plans."""

    def judged(self, made: Small, **expected: str) -> Judgement:
        """The verdicts of the named endpoints must be these."""
        judgement = judge(made.plan())
        verdicts = judgement.verdicts()
        self.assertEqual({e: verdicts[e] for e in expected}, expected)
        return judgement

    def only(self, judgement: Judgement) -> Finding:
        """The only finding."""
        found = findings(judgement)
        self.assertEqual(len(found), 1, [f.title for f in found])
        return found[0]
