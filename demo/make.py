"""Writes the Brackwater Ferries demo plan: a small ferry company with two harbour terminals, and the faults that happen in life.

python demo/make.py            writes demo/brackwater.json
"""

from __future__ import annotations

import pathlib
import sys

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent / "core"))

from aptwire.plan.checks import check_plan, make_record
from aptwire.plan.file import write_plan
from aptwire.plan.kinds import Record
from aptwire.plan.plan import Plan, PlanError

RECORDS: dict[str, dict[str, Record]] = {}


def put(kind: str, id: str, **values: object) -> str:
    RECORDS.setdefault(kind, {})[id] = make_record(kind, {"id": id, **values})
    return id


SEGMENTS = {
    "management": ("management", 110, "10.64.110.0/24", None),
    "migration": ("migration", 120, "10.64.120.0/24", None),
    "storage": ("storage", 130, "10.64.130.0/24", None),
    "ticketing": ("production", 210, "10.65.10.0/24", "10.65.10.1"),
    "berth planning": ("production", 220, "10.65.20.0/24", "10.65.20.1"),
    "tide gauges": ("production", 230, "10.65.30.0/24", "10.65.30.1"),
    "CCTV": ("production", 240, "10.65.40.0/24", "10.65.40.1"),
    "edge": ("edge", 300, "10.66.0.0/24", "10.66.0.1"),
}
SEG = {name: f"segment-{name.replace(' ', '-').lower()}" for name in SEGMENTS}
PRODUCTION = "110, 120, 210, 220, 230, 240"


def segments() -> None:
    for name, (role, vid, subnet, gateway) in SEGMENTS.items():
        put(
            "segment",
            SEG[name],
            name=name,
            role=role,
            vid=vid,
            subnets=[subnet],
            gateways=[gateway] if gateway else [],
            mtu=9000 if name == "storage" else 1500,
        )


def fabric() -> None:
    for switch, site in (("quay-a", "Northquay"), ("quay-b", "Northquay"), ("marsh-a", "Saltmarsh")):
        put("fabric_switch", switch, name=switch, site=site)

    def trunk(switch: str, name: str, allowed: str, native: int | None = None) -> str:
        return put(
            "fabric_port",
            f"{switch}/{name}",
            switch=switch,
            name=name,
            mode="trunk",
            allowed=allowed,
            native=native,
            speed=10_000,
            mtu=9216,
        )

    def access(switch: str, name: str, vid: int) -> str:
        return put(
            "fabric_port", f"{switch}/{name}", switch=switch, name=name, mode="access", vid=vid, speed=25_000, mtu=9216
        )

    trunk("quay-a", "p1", f"{PRODUCTION}, 300")
    trunk("quay-a", "p2", f"{PRODUCTION}, 300")
    trunk("quay-b", "p1", f"{PRODUCTION}, 300")
    # The tag that somebody forgot: tide gauges work until fulmar's first NIC fails.
    trunk("quay-b", "p2", "110, 120, 210, 220, 240, 300")
    access("quay-a", "p11", 130)
    access("quay-a", "p12", 130)
    trunk("quay-a", "x50", f"{PRODUCTION}, 130, 300")
    trunk("quay-b", "x50", f"{PRODUCTION}, 130, 300")
    # The way to the other terminal: CCTV is missing at its far end, and the native VLANs differ.
    trunk("quay-a", "x49", "110, 120, 130, 210, 220, 230, 240", native=300)
    trunk("marsh-a", "x49", "110, 120, 130, 210, 230", native=220)
    for port in ("p1", "p2", "p3", "p4"):
        trunk("marsh-a", port, PRODUCTION)
    access("marsh-a", "p11", 130)
    access("marsh-a", "p12", 130)
    access("marsh-a", "p20", 300)
    put("cable", "cable-quay", a="quay-a/x50", b="quay-b/x50")
    put("cable", "cable-terminals", a="quay-a/x49", b="marsh-a/x49")


HOSTS = {
    "gannet": ("Northquay", 11, ("quay-a/p1", "quay-b/p1", "quay-a/p11")),
    "fulmar": ("Northquay", 12, ("quay-a/p2", "quay-b/p2", "quay-a/p12")),
    # Two cables swapped: the second member of the team and the storage NIC.
    "kittiwake": ("Saltmarsh", 13, ("marsh-a/p1", "marsh-a/p11", "marsh-a/p2")),
    "petrel": ("Saltmarsh", 14, ("marsh-a/p3", "marsh-a/p4", "marsh-a/p12")),
}
GROUPS = {
    "gannet": ("ticketing", "berth planning", "tide gauges", "edge"),
    "fulmar": ("ticketing", "berth planning", "tide gauges", "CCTV", "edge"),
    "kittiwake": ("ticketing", "berth planning", "tide gauges", "CCTV"),
    "petrel": ("ticketing", "berth planning", "tide gauges", "CCTV"),
}


def group_id(host: str, name: str) -> str:
    return f"{host}/guests0/{name.replace(' ', '-').lower()}"


def hosts() -> None:
    for number, (host, (site, last, ports)) in enumerate(HOSTS.items()):
        put("host", host, name=host, site=site)
        guests0, store0 = f"{host}/guests0", f"{host}/store0"
        put("virtual_switch", guests0, host=host, name="guests0", mtu=1500)
        put("virtual_switch", store0, host=host, name="store0", mtu=9000)
        allowed = f"{PRODUCTION}, 300" if site == "Northquay" else f"0, {PRODUCTION}"
        put("uplink", f"{guests0}/team0", switch=guests0, name="team0", mode="standby", allowed=allowed)
        put("uplink", f"{store0}/nic2", switch=store0, name="nic2", mode="standby")
        for nic in range(3):
            put(
                "nic",
                f"{host}/nic{nic}",
                host=host,
                name=f"nic{nic}",
                mac=f"02:64:0a:00:{number + 1:02x}:{nic:02x}",
                speed=25_000 if nic == 2 else 10_000,
                mtu=9000 if nic == 2 else 1500,
                uplink=f"{store0}/nic2" if nic == 2 else f"{guests0}/team0",
                role="standby" if nic == 1 else "active",
                rank=nic,
            )
            put("cable", f"cable-{host}-nic{nic}", a=f"{host}/nic{nic}", b=ports[nic])
        # petrel's own management interface carries no tag, and its port has no native VLAN: nobody reaches the host.
        put(
            "host_port",
            f"{guests0}/mgmt",
            switch=guests0,
            name="mgmt",
            vid=None if host == "petrel" else 110,
            addresses=[f"10.64.110.{last}/24"],
            services=["management"],
            belongs=SEG["management"],
        )
        put(
            "host_port",
            f"{guests0}/move",
            switch=guests0,
            name="move",
            vid=120,
            addresses=[f"10.64.120.{last}/24"],
            services=["migration"],
            belongs=SEG["migration"],
        )
        put(
            "host_port",
            f"{store0}/store",
            switch=store0,
            name="store",
            addresses=[f"10.64.130.{last}/24"],
            services=["storage"],
            belongs=SEG["storage"],
        )
        for name in GROUPS[host]:
            # petrel's port group bears the right name and the wrong tag.
            vid = 203 if (host, name) == ("petrel", "tide gauges") else SEGMENTS[name][1]
            put("port_group", group_id(host, name), switch=guests0, name=name, mode="access", vid=vid)
    put(
        "port_group",
        "gannet/guests0/firewall",
        switch="gannet/guests0",
        name="firewall",
        mode="trunk",
        allowed="210, 220, 230, 240",
    )
    # A switch for visitors that nobody has plugged in yet, or nobody has written down where.
    put("virtual_switch", "petrel/quayside0", host="petrel", name="quayside0", mtu=1500)
    put("uplink", "petrel/quayside0/nic3", switch="petrel/quayside0", name="nic3", mode="standby")
    put(
        "nic",
        "petrel/nic3",
        host="petrel",
        name="nic3",
        mac="02:64:0a:00:04:03",
        speed=1_000,
        mtu=1500,
        uplink="petrel/quayside0/nic3",
        rank=3,
    )
    put("port_group", "petrel/quayside0/edge", switch="petrel/quayside0", name="edge", mode="untagged")


GUESTS = [
    ("gannet", "ticketing-web-1", "ticketing", "10.65.10.11"),
    ("gannet", "ticketing-db", "ticketing", "10.65.10.20"),
    ("gannet", "berth-planner", "berth planning", "10.65.20.11"),
    ("gannet", "tide-gauge-ingest", "tide gauges", "10.65.30.11"),
    ("fulmar", "ticketing-web-2", "ticketing", "10.65.10.12"),
    ("fulmar", "crew-roster", "berth planning", "10.65.20.12"),
    ("fulmar", "tide-gauge-view", "tide gauges", "10.65.30.12"),
    ("fulmar", "cctv-archive", "CCTV", "10.65.40.11"),
    # A restored copy with the live machine's address, started on the live segment.
    ("fulmar", "restore-copy", "ticketing", "10.65.10.20"),
    ("fulmar", "crew-roster-old", "berth planning", "10.65.20.13"),
    ("kittiwake", "ticketing-kiosk-1", "ticketing", "10.65.10.31"),
    # An address of the neighbouring subnet.
    ("kittiwake", "ticketing-kiosk-2", "ticketing", "10.65.20.32"),
    ("kittiwake", "berth-display", "berth planning", "10.65.20.31"),
    ("kittiwake", "tide-gauge-marsh", "tide gauges", "10.65.30.31"),
    ("kittiwake", "cctv-recorder", "CCTV", "10.65.40.31"),
    ("petrel", "ticketing-kiosk-3", "ticketing", "10.65.10.33"),
    ("petrel", "announcements", "berth planning", "10.65.20.33"),
    ("petrel", "tide-gauge-buoy", "tide gauges", "10.65.30.33"),
    ("petrel", "cctv-gate", "CCTV", "10.65.40.33"),
]


def guests() -> None:
    for number, (host, name, segment, address) in enumerate(GUESTS):
        put("guest", f"guest-{name}", host=host, name=name, running=name != "crew-roster-old")
        put(
            "adapter",
            f"adapter-{name}",
            guest=f"guest-{name}",
            name=f"tap-{name}",
            port_group=group_id(host, segment),
            mac=f"02:64:0b:00:00:{number:02x}",
            belongs=SEG[segment],
            addresses=[f"{address}/24"],
        )
    put("guest", "guest-edge-firewall", host="gannet", name="edge-firewall")
    put(
        "adapter",
        "adapter-edge-firewall-in",
        guest="guest-edge-firewall",
        name="tap-fw-in",
        port_group="gannet/guests0/firewall",
        mac="02:64:0b:00:01:00",
    )
    for segment in ("ticketing", "berth planning", "tide gauges", "CCTV"):
        vid = SEGMENTS[segment][1]
        put(
            "guest_tag",
            f"tag-edge-firewall-{vid}",
            adapter="adapter-edge-firewall-in",
            vid=vid,
            belongs=SEG[segment],
            addresses=[f"{SEGMENTS[segment][3]}/24"],
        )
    put(
        "adapter",
        "adapter-edge-firewall-out",
        guest="guest-edge-firewall",
        name="tap-fw-out",
        port_group=group_id("gannet", "edge"),
        mac="02:64:0b:00:01:01",
        belongs=SEG["edge"],
        addresses=["10.66.0.1/24"],
    )
    put("guest", "guest-visitor-portal", host="petrel", name="visitor-portal")
    put(
        "adapter",
        "adapter-visitor-portal",
        guest="guest-visitor-portal",
        name="tap-visitor",
        port_group="petrel/quayside0/edge",
        mac="02:64:0b:00:01:02",
        belongs=SEG["edge"],
        addresses=["10.66.0.40/24"],
    )


def brackwater() -> Plan:
    """The demo plan, checked."""
    RECORDS.clear()
    for make in (segments, fabric, hosts, guests):
        make()
    plan = Plan("Brackwater Ferries", RECORDS)
    problems = check_plan(plan)
    if problems:
        raise PlanError(problems)
    return plan


if __name__ == "__main__":
    target = pathlib.Path(__file__).with_name("brackwater.json")
    target.write_bytes(write_plan(brackwater()))
    print(f"{target.name} written")
