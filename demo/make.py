"""Writes the Brackwater Ferries demo plan: a small ferry company with two harbour terminals, and the faults that happen in life.

python demo/make.py            writes demo/brackwater.json, and demo/networks.json, what the harbour office's system says
"""

from __future__ import annotations

import pathlib
import sys
from dataclasses import replace

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent / "core"))

from aptwire.formats.topology import document_of
from aptwire.plan.checks import check_plan, make_record
from aptwire.plan.edits import Patch, Put, apply_edit
from aptwire.plan.file import write_plan
from aptwire.plan.kinds import Record
from aptwire.plan.patterns import STAMPED, parts_of
from aptwire.plan.plan import Plan, PlanError
from aptwire.stamping.making import from_host
from aptwire.stamping.off import keep, off, take_out

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
                functions=8 if (host, nic) == ("gannet", 0) else None,
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


def other_teams() -> None:
    """A hashed team over a static LAG, a port group with an order of its own, and a NIC without a cable."""
    put("lag", "quay-a/store-lag", switch="quay-a", name="store-lag", lacp=False)
    ports = RECORDS["fabric_port"]
    ports["quay-a/p11"] = replace(ports["quay-a/p11"], lag="quay-a/store-lag")  # type: ignore[call-arg]
    ports["quay-a/p13"] = replace(ports["quay-a/p11"], id="quay-a/p13", name="p13")  # type: ignore[call-arg]
    nics, uplinks = RECORDS["nic"], RECORDS["uplink"]
    nics["gannet/nic3"] = replace(  # type: ignore[call-arg]
        nics["gannet/nic2"], id="gannet/nic3", name="nic3", mac="02:64:0a:00:01:03", rank=3
    )
    uplinks["gannet/store0/nic2"] = replace(uplinks["gannet/store0/nic2"], name="team1", mode="hashed")  # type: ignore[call-arg]
    put("cable", "cable-gannet-nic3", a="gannet/nic3", b="quay-a/p13")
    for nic, role in ((1, "active"), (0, "standby")):
        order = f"petrel-cctv-nic{nic}"
        put(
            "group_order",
            order,
            port_group=group_id("petrel", "CCTV"),
            nic=f"petrel/nic{nic}",
            role=role,
            rank=1 - nic,
        )
    # The buoys report over the air: fulmar listens to them through a bridge on the quay.
    put("fabric_switch", "buoy-bridge", name="buoy-bridge", site="Northquay", managed=False)
    for name in ("air", "mast"):
        put("fabric_port", f"buoy-bridge/{name}", switch="buoy-bridge", name=name, mode="access", vid=230, speed=1_000)
    put("fabric_port", "quay-b/p20", switch="quay-b", name="p20", mode="access", vid=230, speed=1_000)
    put("cable", "cable-buoy-bridge", a="buoy-bridge/mast", b="quay-b/p20")
    put("virtual_switch", "fulmar/buoys0", host="fulmar", name="buoys0", mtu=1500)
    put("uplink", "fulmar/buoys0/air0", switch="fulmar/buoys0", name="air0", mode="standby")
    put(
        "nic",
        "fulmar/nic3",
        host="fulmar",
        name="nic3",
        mac="02:64:0a:00:02:03",
        speed=1_000,
        mtu=1500,
        uplink="fulmar/buoys0/air0",
        rank=3,
        wireless=True,
    )
    put("cable", "cable-fulmar-nic3", a="fulmar/nic3", b="buoy-bridge/air")
    put(
        "host_port",
        "fulmar/buoys0/buoys",
        switch="fulmar/buoys0",
        name="buoys",
        addresses=["10.65.30.51/24"],
        belongs=SEG["tide gauges"],
    )


def whole_wiring() -> None:
    """The rest that a fleet has: a router, a LAG, a private VLAN, an overlay, a virtual function, a mirror, guards, rules."""
    # The visitors' kiosks hear their gateway and not each other.
    put(
        "segment",
        "segment-visitors",
        name="visitors",
        role="edge",
        vid=310,
        subnets=["10.66.10.0/24"],
        gateways=["10.66.10.1"],
        mtu=1500,
    )
    put("secondary_vlan", "visitors-isolated", segment="segment-visitors", name="kiosks", vid=311, type="isolated")
    # A bubble in which backups are restored: an overlay with the addresses of ticketing, apart from it.
    put(
        "segment",
        "segment-restore",
        name="restore bubble",
        role="test",
        vni=5010,
        subnets=["10.65.10.0/24"],
        mtu=1400,
    )
    put("secondary_vlan", "visitors-desks", segment="segment-visitors", name="desks", vid=312, type="community")
    put("station", "quay-router", name="quay-router", site="Northquay", routes=True)
    put("fabric_port", "quay-a/p24", switch="quay-a", name="p24", mode="private", vid=310, speed=10_000)
    put(
        "station_port",
        "quay-router/visitors",
        station="quay-router",
        port="quay-a/p24",
        belongs="segment-visitors",
        addresses=["10.66.10.1/24"],
    )
    # A third host at Northquay: its team is one LAG.
    put("host", "razorbill", name="razorbill", site="Northquay")
    put("virtual_switch", "razorbill/guests0", host="razorbill", name="guests0", mtu=1500)
    allowed = f"{PRODUCTION}, 310-312"
    put("uplink", "razorbill/guests0/team0", switch="razorbill/guests0", name="team0", mode="lacp", allowed=allowed)
    put("lag", "quay-a/lag3", switch="quay-a", name="lag3")
    for n in range(2):
        port = f"quay-a/p{n + 3}"
        put(
            "fabric_port",
            port,
            switch="quay-a",
            name=f"p{n + 3}",
            mode="trunk",
            allowed=allowed,
            speed=10_000,
            mtu=9216,
            lag="quay-a/lag3",
        )
        nic = f"razorbill/nic{n}"
        put(
            "nic",
            nic,
            host="razorbill",
            name=f"nic{n}",
            mac=f"02:64:0a:00:05:{n:02x}",
            speed=10_000,
            mtu=1500,
            card="card 1",
            functions=8,
            uplink="razorbill/guests0/team0",
            rank=n,
        )
        put("cable", f"cable-razorbill-nic{n}", a=nic, b=port)
    # A NIC that waits for a switch: free, cabled, and known by its neighbour.
    put(
        "nic",
        "razorbill/nic2",
        host="razorbill",
        name="nic2",
        mac="02:64:0a:00:05:02",
        speed=25_000,
        mtu=9000,
        card="card 2",
    )
    put("fabric_port", "quay-b/p11", switch="quay-b", name="p11", mode="access", vid=130, speed=25_000, mtu=9216)
    put("cable", "cable-razorbill-nic2", a="razorbill/nic2", b="quay-b/p11")
    for name, vid, last in (("mgmt", 110, 15), ("move", 120, 15)):
        segment = "management" if vid == 110 else "migration"
        put(
            "host_port",
            f"razorbill/guests0/{name}",
            switch="razorbill/guests0",
            name=name,
            vid=vid,
            addresses=[f"10.64.{vid}.{last}/24"],
            services=[segment],
            belongs=SEG[segment],
        )
    guests0 = "razorbill/guests0"
    limits = {"send_rate": 20_000, "send_peak": 40_000, "send_burst": 30_000, "receive_rate": 50_000}
    put("port_group", f"{guests0}/kiosks", switch=guests0, name="kiosks", mode="private", vid=311, **limits)
    put("port_group", f"{guests0}/desks", switch=guests0, name="desks", mode="private", vid=312)
    put("port_group", f"{guests0}/ticketing", switch=guests0, name="ticketing", mode="access", vid=210)
    # Two of its ends are in the migration subnet, one in that of the management: the router is the gateway of all.
    put("fabric_port", "quay-a/p23", switch="quay-a", name="p23", mode="trunk", allowed="110, 120", speed=10_000)
    for segment, vid in (("management", 110), ("migration", 120)):
        put(
            "station_port",
            f"quay-router/{segment}",
            station="quay-router",
            port="quay-a/p23",
            vid=vid,
            belongs=SEG[segment],
            addresses=[f"10.64.{vid}.1/24"],
        )
    for host, port, vid in (("razorbill", "move", 120), ("gannet", "move", 120), ("fulmar", "mgmt", 110)):
        group = f"{host}/guests0/restore"
        over = f"{host}/guests0/{port}"
        RECORDS["host_port"][over] = replace(RECORDS["host_port"][over], gateway=f"10.64.{vid}.1")  # type: ignore[call-arg]
        put("port_group", group, switch=f"{host}/guests0", name="restore", mode="overlay", vni=5010, over=over)

    def guest(host: str, name: str, number: int, **adapter: object) -> None:
        put("guest", f"guest-{name}", host=host, name=name)
        mac = f"02:64:0b:00:02:{number:02x}"
        put("adapter", f"adapter-{name}", guest=f"guest-{name}", name=f"tap-{name}", mac=mac, **adapter)

    for n in (1, 2):
        guest(
            "razorbill",
            f"visitor-kiosk-{n}",
            n,
            port_group=f"{guests0}/kiosks",
            belongs="segment-visitors",
            addresses=[f"10.66.10.{30 + n}/24"],
            **({"send_rate": 50_000, "send_peak": 80_000} if n == 2 else {}),
        )
        guest(
            "razorbill",
            f"visitor-desk-{n}",
            8 + n,
            port_group=f"{guests0}/desks",
            belongs="segment-visitors",
            addresses=[f"10.66.10.{40 + n}/24"],
        )
    guest(
        "razorbill",
        "ticketing-api",
        3,
        port_group=f"{guests0}/ticketing",
        belongs=SEG["ticketing"],
        addresses=["10.65.10.41/24"],
        seen_as="ens3",
        team="bond0",
    )
    # The guest's own team: a second adapter on the same segment.
    put(
        "adapter",
        "adapter-ticketing-api-2",
        guest="guest-ticketing-api",
        name="tap-ticketing-api-2",
        mac="02:64:0b:00:02:0b",
        port_group=f"{guests0}/ticketing",
        belongs=SEG["ticketing"],
        order=1,
        seen_as="ens4",
        team="bond0",
    )
    guest(
        "razorbill",
        "ticketing-watch",
        4,
        port_group=f"{guests0}/ticketing",
        belongs=SEG["ticketing"],
        addresses=["10.65.10.42/24"],
    )
    put("mirror", "mirror-ticketing-api", source="adapter-ticketing-api", target="adapter-ticketing-watch")
    guest(
        "gannet",
        "tide-model",
        5,
        type="direct",
        function_of="gannet/nic0",
        function_vid=230,
        belongs=SEG["tide gauges"],
        addresses=["10.65.30.41/24"],
    )
    for n, host in enumerate(("razorbill", "gannet", "fulmar")):
        guest(
            host,
            f"restore-db-{n + 1}",
            6 + n,
            port_group=f"{host}/guests0/restore",
            belongs="segment-restore",
            addresses=[f"10.65.10.{20 + n}/24"],
        )
    put("rule", "apart-storage", text="role storage and role production share no VID, virtual switch, uplink or NIC")
    put("rule", "apart-management", text="role management and role production share no VID")
    put("rule", "visitors-apart", text="keep visitors apart from ticketing")
    put("rule", "visitors-off-management", text="keep visitors apart from role management")
    put("rule", "crew-reaches-tides", text="let crew-roster reach tide-model only through edge-firewall")
    put("rule", "hosts-reach-router", text="every host reaches quay-router")
    put("rule", "roster-reaches-database", text="let crew-roster reach ticketing-api on tcp 5432")
    put("rule", "cameras-apart", text='keep CCTV apart from "tide gauges"')
    firewall = "guest-edge-firewall"
    cameras, gauges = ("10.65.40.0/24",), ("10.65.30.0/24",)
    put("filter_line", "firewall-10", of=firewall, order=10, action="deny", sources=cameras, targets=gauges)
    put("filter_line", "firewall-20", of=firewall, order=20, action="deny", sources=gauges, targets=cameras)
    # What is outside is reached by the firewall alone, over the provider's router; it hides whoever is behind it.
    put("station", "line-router", name="line-router", site="Northquay", routes=True)
    put("fabric_port", "quay-a/p22", switch="quay-a", name="p22", mode="access", vid=300, speed=1_000)
    outer = {"belongs": SEG["edge"], "addresses": ["10.66.0.254/24"]}
    put("station_port", "line-router/edge", station="line-router", port="quay-a/p22", **outer)
    put("outside", "internet", name="internet", at="line-router", translates=True)
    put("route", "firewall-out", of=firewall, to=["0.0.0.0/0"], via="10.66.0.254")
    put("translation", "firewall-hides", at="adapter-edge-firewall-out")
    put("rule", "roster-reaches-out", text="let crew-roster reach outside only through edge-firewall")
    put("rule", "cameras-stay-in", text="keep CCTV apart from outside")
    put(
        "filter_line",
        "firewall-05",
        of=firewall,
        order=5,
        action="deny",
        sources=cameras,
        leaves="adapter-edge-firewall-out",
    )
    database, roster = ("10.65.10.41/32",), ("10.65.20.0/24",)
    allow = {"of": firewall, "action": "allow", "sources": roster, "targets": database}
    put("filter_line", "firewall-30", order=30, protocol="tcp", ports="5432", **allow)
    put("filter_line", "firewall-40", of=firewall, order=40, action="deny", protocol="tcp", targets=database)
    put("rule", "bubble-apart", text='keep "restore bubble" apart from everything even if hostile')
    put("rule", "lab-apart", text="keep role lab apart from role production", note="for the laptops that come in May")
    put(
        "limits", "limits", paravirtual_adapters=10, emulated_adapters=4, direct_adapters=2, port_groups=64, functions=8
    )
    for name, priority, mac in (("quay-a", 4096, "0a"), ("quay-b", 8192, "0b"), ("marsh-a", 32768, "0c")):
        old = RECORDS["fabric_switch"][name]
        RECORDS["fabric_switch"][name] = replace(
            old, spanning_tree=True, priority=priority, mac=f"02:64:0c:00:00:{mac}"
        )  # type: ignore[call-arg]
    # A second cable between the terminals, which the spanning tree keeps in reserve.
    for switch, native in (("quay-b", None), ("marsh-a", None)):
        put(
            "fabric_port",
            f"{switch}/x48",
            switch=switch,
            name="x48",
            mode="trunk",
            allowed="110, 120, 130, 210, 220, 230, 240",
            native=native,
            speed=1_000,
            mtu=1500,
        )
    put("cable", "cable-terminals-2", a="quay-b/x48", b="marsh-a/x48")


def change(kind: str, id: str, **values: object) -> None:
    RECORDS[kind][id] = replace(RECORDS[kind][id], **values)  # type: ignore[arg-type]


def said() -> None:
    """What people say of records: who answers for them, what to know, what is written on cables."""
    for name in SEGMENTS:
        owner = "harbour platform" if name in ("management", "migration", "storage") else "ferry services"
        change("segment", SEG[name], owner="security desk" if name == "CCTV" else owner)
    for name in ("ticketing", "tide gauges"):
        change("segment", SEG[name], lease_servers=RECORDS["segment"][SEG[name]].gateways)  # type: ignore[attr-defined]
    change("segment", SEG["edge"], note="The public addresses are lent by the line’s provider until June.")
    change("host", "gannet", owner="harbour platform", note="The firewall guest lives here: call ferry services first.")
    change("host", "petrel", note="Its board was changed in May; the NICs came back in another order.")
    change("guest", "guest-ticketing-db", owner="ferry services", note="Moves only at night, after the last ferry.")
    change("guest", "guest-edge-firewall", owner="harbour platform", routes=True)
    for number, id in enumerate(sorted(RECORDS["cable"]), 1):
        change("cable", id, label=f"BF-{number:03}")
    change("cable", "cable-terminals", places=("N1 port 3", "S1 port 3"), note="Leased fibre under the estuary.")
    change("cable", "cable-terminals-2", places=("N1 port 4", "S1 port 4"))


def within_hosts() -> None:
    """What stays inside a host, and what is said of single ports, teams and adapters."""

    def inner(host: str, switch: str, segment: str, role: str, guest: str, number: int, **adapter: object) -> None:
        put("segment", f"segment-{segment}", name=segment, role=role, subnets=[f"10.66.{number}.0/24"], mtu=1500)
        put("virtual_switch", f"{host}/{switch}", host=host, name=switch, mtu=1500, limits="sending")
        group = put("port_group", f"{host}/{switch}/inside", switch=f"{host}/{switch}", name=segment, mode="untagged")
        put("guest", f"guest-{guest}", host=host, name=guest)
        own = {"port_group": group, "belongs": f"segment-{segment}", "mac": f"02:64:0b:00:03:{number:02x}"}
        put("adapter", f"adapter-{guest}", guest=f"guest-{guest}", name=f"tap-{guest}", **own, **adapter)

    # A sealed switch: what is restored here sees nobody. And one that only the host itself reaches.
    inner("kittiwake", "bubble0", "bubble", "test", "restore-check", 20)
    change("virtual_switch", "kittiwake/bubble0", answers=False)
    # A port in the standard's words, wider than its guest needs: it could tag its way to the tide gauges.
    words = {"members": "230, 240", "untagged": "240", "pvid": 240}
    change("port_group", group_id("kittiwake", "CCTV"), mode="standard", vid=None, **words)
    inner("petrel", "depot0", "depot", "backup", "backup-agent", 30, addresses=["10.66.30.20/24"])
    put(
        "host_port",
        "petrel/depot0/depot",
        switch="petrel/depot0",
        name="depot",
        addresses=["10.66.30.14/24"],
        services=["backup"],
        belongs="segment-depot",
    )
    change("uplink", "petrel/guests0/team0", mode="pinned")
    change("uplink", "gannet/guests0/team0", detect="probe", fail_back=False)
    # The firewall answers for others and gives out leases; its own adapters have names that its people know.
    change("port_group", "gannet/guests0/firewall", new_address=True, foreign_source=True, serve_leases=True)
    change("adapter", "adapter-edge-firewall-in", seen_as="lan0")
    change("adapter", "adapter-edge-firewall-out", seen_as="wan0", order=1)
    change("adapter", "adapter-ticketing-db", mac_fixed=True, hot_plug=False)
    change("adapter", "adapter-ticketing-watch", overhear=True)
    # The loudspeakers' machine boots from the network.
    change("adapter", "adapter-announcements", type="emulated")
    leases()


def leases() -> None:
    """The firewall and the quay's router lease addresses; so does the announcements' appliance, which nobody asked to."""
    firewall = "guest-edge-firewall"
    for name, net in (("ticketing", "10.65.10"), ("berth planning", "10.65.20"), ("tide gauges", "10.65.30")):
        kept = ["02:64:0b:00:00:0f 10.65.10.33"] if name == "ticketing" else []
        said = {"subnet": f"{net}.0/24", "pool": [f"{net}.100-{net}.149"], "gateways": [f"{net}.1"], "kept": kept}
        put("lease_scope", f"firewall-leases-{name.replace(' ', '-')}", of=firewall, **said)
    change("segment", SEG["berth planning"], lease_servers=("10.65.20.1",))
    change("adapter", "adapter-ticketing-kiosk-3", addresses=(), addressing="lease")
    visitors = {"subnet": "10.66.10.0/24", "pool": ["10.66.10.100-10.66.10.199"], "gateways": ["10.66.10.1"]}
    put("lease_scope", "router-leases-visitors", of="quay-router", minutes=60, **visitors)
    ranges = ("reserved 10.66.10.1-10.66.10.9", "static 10.66.10.10-10.66.10.99", "leases 10.66.10.100-10.66.10.199")
    change("segment", "segment-visitors", lease_servers=("10.66.10.1",), ranges=ranges)
    # The visitors have IPv6 too, of a prefix that the quay's router advertises.
    six = "2001:db8:66:10::"
    more = {"subnets": ("10.66.10.0/24", f"{six}/64"), "gateways": ("10.66.10.1", f"{six}1")}
    change("segment", "segment-visitors", **more)
    change("station_port", "quay-router/visitors", addresses=("10.66.10.1/24", f"{six}1/64"))
    put("advertisement", "router-advertises-visitors", at="quay-router/visitors", prefixes=[f"{six}/64"])
    for n in (1, 2):
        change("adapter", f"adapter-visitor-desk-{n}", addresses=(), addressing="lease", addressing6="advertised")
    stray = {"subnet": "10.65.20.0/24", "pool": ["10.65.20.200-10.65.20.219"], "gateways": ["10.65.20.33"]}
    put("lease_scope", "announcements-leases", of="guest-announcements", note="its maker’s default", **stray)
    put("advertisement", "announcements-advertises", at="adapter-announcements", prefixes=["2001:db8:9:9::/64"])
    change("adapter", "adapter-announcements", serve_leases=True, advertise_routes=True)
    # A weather station got its address where the line's people count on none.
    meant = ("static 10.65.30.2-10.65.30.49", "leases 10.65.30.100-10.65.30.149")
    change("segment", SEG["tide gauges"], ranges=meant)
    # Gannet's controller has a port of its own; petrel's shares a NIC, without the tag that its port wants.
    put("fabric_port", "quay-a/p31", switch="quay-a", name="p31", mode="access", vid=110, speed=1_000)
    management = {"belongs": SEG["management"]}
    put("bmc", "gannet-bmc", host="gannet", port="quay-a/p31", addresses=["10.64.110.211/24"], **management)
    put("bmc", "petrel-bmc", host="petrel", nic="petrel/nic0", addresses=["10.64.110.214/24"], **management)
    change("fabric_switch", "quay-b", vlans="110, 120, 130, 210, 220, 230, 240, 300, 310-312")
    put("fabric_port", "quay-b/x47", switch="quay-b", name="x47", mode="access", vid=110, speed=10_000, enabled=False)
    put("station", "quay-array", name="quay-array", site="Northquay")
    put("fabric_port", "quay-a/p14", switch="quay-a", name="p14", mode="access", vid=130, speed=25_000, mtu=9216)
    array = {"belongs": SEG["storage"], "addresses": ["10.64.130.100/24"], "mtu": 9000}
    put("station_port", "quay-array/storage", station="quay-array", port="quay-a/p14", **array)


def processors() -> None:
    """What the hosts' processors are: two sockets on gannet and fulmar, one on the others; and which serve whom."""

    def cores(first: int, count: int, second: int) -> str:
        return ", ".join(f"{n}+{n + second}" for n in range(first, first + count))

    for host in ("gannet", "fulmar"):
        for number in (0, 1):
            put(
                "numa_node",
                f"{host}/numa-{number}",
                host=host,
                number=number,
                socket=number,
                cores=cores(8 * number, 8, 16),
            )
        for nic in (n for n in RECORDS["nic"].values() if n.host == host):  # type: ignore[attr-defined]
            change("nic", nic.id, numa=int(nic.name in ("nic2", "nic3")), most_queues=16)  # type: ignore[attr-defined]
    for host in ("kittiwake", "petrel", "razorbill"):
        put("numa_node", f"{host}/numa-0", host=host, number=0, cores=cores(0, 12, 12))
        for nic in (n for n in RECORDS["nic"].values() if n.host == host):  # type: ignore[attr-defined]
            change("nic", nic.id, numa=0, most_queues=8)
    change("nic", "gannet/nic2", cores="10-13", queues=4)
    change("nic", "gannet/nic3", cores="10-13", queues=4)
    change("nic", "gannet/nic0", cores="1-4", queues=4)
    change("nic", "gannet/nic1", cores="1-4", queues=4)
    # The storage NIC hangs on the second socket; half of its queues are served by the first.
    change("nic", "fulmar/nic2", cores="6-9", queues=4)


def flows() -> None:
    """What is sent: storage to the array and migrations by all hosts, ticketing and berth plans to whoever asks, the tides of years from one guest
    to another, and what the cameras record, as somebody measured it."""
    put(
        "flow",
        "flow-storage",
        name="storage",
        service="storage",
        towards="one",
        to="quay-array/storage",
        sends=1_500,
        gets=3_000,
    )
    put("flow", "flow-migration", name="migration", service="migration", towards="others", sends=9_000, burst=True)
    put("flow", "flow-ticketing", name="ticketing", of=SEG["ticketing"], sends=900, gets=300, packet=900)
    put("flow", "flow-plans", name="berth plans", of="adapter-berth-planner", sends=900, gets=120)
    archive = {"of": "adapter-tide-gauge-ingest", "towards": "one", "to": "adapter-tide-gauge-view", "sends": 5_200}
    put("flow", "flow-archive", name="tide archive", **archive)
    put(
        "flow",
        "flow-cameras",
        name="berth cameras, measured",
        of="berth-recorder/cameras",
        towards="one",
        to="adapter-cctv-archive-harbour",
        sends=640,
        packet=1_338,
        read="2026-11-25T14:10:00Z",
    )


HARBOUR = "http://127.0.0.1:8138/restconf/data/ietf-network:networks"


def elsewhere() -> None:
    """Networks that the harbour office's own system defines (networks.json): cameras, which a recorder watches, customs, and lock sensors, which it has given up."""
    read = "2026-11-20T06:30:00Z"
    put("source", "harbour-office", name="harbour office", address=HARBOUR, read=read, owner="harbour platform")
    for origin, name, vid, subnet in (
        ("urn:harbour:berth-cameras", "berth cameras", 410, "10.67.10.0/24"),
        ("urn:harbour:lock-sensors", "lock sensors", 420, "10.67.20.0/24"),
        ("urn:harbour:customs", "customs", 430, "10.65.40.0/24"),
    ):
        gone = name == "lock sensors"
        put(
            "segment",
            f"harbour-office/{name.replace(' ', '-')}",
            name=name,
            vid=vid,
            subnets=[subnet],
            role="production",
            source="harbour-office",
            origin=origin,
            vanished=gone,
        )
    # It comes in where the office's own recorder is plugged in, and goes to fulmar, where the archive watches it by an interface of its own.
    for kind, id in (
        *(("fabric_port", port) for port in ("quay-a/p2", "quay-b/p2", "quay-a/x50", "quay-b/x50")),
        ("uplink", "fulmar/guests0/team0"),
    ):
        change(kind, id, allowed=f"{RECORDS[kind][id].allowed}, 410, 420")  # type: ignore[attr-defined]
    change("fabric_switch", "quay-b", vlans="110, 120, 130, 210, 220, 230, 240, 300, 310-312, 410, 420")
    put("fabric_port", "quay-a/p32", switch="quay-a", name="p32", mode="access", vid=410, speed=1_000)
    put("station", "berth-recorder", name="berth-recorder", site="Northquay")
    cameras = {"belongs": "harbour-office/berth-cameras", "addresses": ["10.67.10.5/24"]}
    put("station_port", "berth-recorder/cameras", station="berth-recorder", port="quay-a/p32", **cameras)
    for name, vid, guest, address in (
        ("berth cameras", 410, "cctv-archive", "10.67.10.20"),
        ("lock sensors", 420, "tide-gauge-view", "10.67.20.20"),
    ):
        group = f"fulmar/guests0/{name.replace(' ', '-')}"
        put("port_group", group, switch="fulmar/guests0", name=name, mode="access", vid=vid)
        put(
            "adapter",
            f"adapter-{guest}-harbour",
            guest=f"guest-{guest}",
            name=f"tap-{guest}-2",
            port_group=group,
            mac=f"02:64:0b:00:04:{vid - 400:02x}",
            belongs=f"harbour-office/{name.replace(' ', '-')}",
            addresses=[f"{address}/24"],
            order=1,
        )


def harbour_networks() -> bytes:
    """What the harbour office's system says of itself today: it has given up the lock sensors, has the pilots' radio anew, and a signal mast with two tags."""
    layer2, layer3 = "ietf-l2-topology", "ietf-l3-unicast-topology"
    point = f"{layer2}:l2-termination-point-attributes"
    made = []

    def network(id: str, name: str, subnet: str, **tag: object) -> None:
        nodes = [
            {
                "node-id": f"harbour-{n}",
                "supporting-node": [{"network-ref": "urn:harbour:ring", "node-ref": f"harbour-{n}"}],
                "ietf-network-topology:termination-point": [{"tp-id": f"{name} {n}", point: tag}],
            }
            for n in (1, 2)
        ]
        ring = [{"network-ref": "urn:harbour:ring"}]
        types: dict[str, object] = {f"{layer2}:l2-topology": {}}
        named = {f"{layer2}:l2-topology-attributes": {"name": name}}
        made.append({"network-id": id, "network-types": types, "supporting-network": ring, "node": nodes, **named})
        prefixes = {f"{layer3}:l3-node-attributes": {"prefix": [{"prefix": subnet}]}}
        made.append(
            {
                "network-id": f"{id}:addresses",
                "network-types": {f"{layer3}:l3-unicast-topology": {}},
                "supporting-network": [{"network-ref": id}],
                "node": [{"node-id": name, **prefixes}],
            }
        )

    vlan = f"{layer2}:vlan"
    nodes = [{"node-id": f"harbour-{n}"} for n in (1, 2)]
    made.append({"network-id": "urn:harbour:ring", "network-types": {}, "node": nodes})
    for id, name, vid, subnet in (
        ("berth-cameras", "berth cameras", 410, "10.67.10.0/24"),
        ("customs", "customs", 430, "10.65.40.0/24"),
        ("pilot-radio", "pilot radio", 440, "10.67.30.0/24"),
    ):
        network(f"urn:harbour:{id}", name, subnet, **{"encapsulation-type": vlan, "outer-tag": str(vid)})
    stacked = {"encapsulation-type": f"{layer2}:qinq", "outer-tag": "450", "inner-tag": "7"}
    network("urn:harbour:signal-mast", "signal mast", "10.67.40.0/24", **stacked)
    return document_of(made)


def with_pattern(plan: Plan) -> Plan:
    """The hosts at Saltmarsh are meant to be alike: kittiwake as its pattern says, petrel off it."""
    plan, _ = apply_edit(plan, from_host(plan, "kittiwake", "marsh hosts"))
    pattern = next(iter(plan.of("pattern")))
    apart = [p for p in plan.all("pattern_switch") if p.name != "guests0"]
    apart += [p for p in plan.all("pattern_port_group") if p.name == "CCTV"]
    for part in apart:
        plan, _ = apply_edit(plan, take_out(plan, part.id))
    for nic in [nic for nic in plan.all("pattern_nic") if nic.uplink is None]:
        plan, _ = apply_edit(plan, take_out(plan, nic.id))
    # The recorder's port group is kittiwake's own; petrel was stamped before somebody changed it by hand.
    own = next(iter(plan.all("stamp")))
    for one in off(plan, own):
        plan, _ = apply_edit(plan, keep(plan, one))
    stamp = f"petrel:{pattern}"
    made: list[Put | Patch] = [
        Put(make_record("stamp", {"id": stamp, "host": "petrel", "pattern": pattern, "number": 2}))
    ]
    for nic in plan.all("pattern_nic"):
        taken = {"id": f"petrel:{nic.id}", "stamp": stamp, "part": nic.id, "nic": f"petrel/{nic.name}"}
        made.append(Put(make_record("stamp_nic", taken)))
    for kind, becomes in STAMPED.items():
        for part in parts_of(plan, pattern, kind):
            id = "petrel/guests0" if kind == "pattern_switch" else f"petrel/guests0/{part.name.replace(' ', '-')}"
            if id in plan.of(becomes):
                made.append(Patch(becomes, id, {"part": part.id}))
    return apply_edit(plan, tuple(made))[0]


def brackwater() -> Plan:
    """The demo plan, checked."""
    RECORDS.clear()
    for make in (
        segments,
        fabric,
        hosts,
        guests,
        whole_wiring,
        other_teams,
        within_hosts,
        elsewhere,
        processors,
        flows,
        said,
    ):
        make()
    plan = Plan("Brackwater Ferries", RECORDS)
    problems = check_plan(plan)
    if problems:
        raise PlanError(problems)
    return with_pattern(plan)


if __name__ == "__main__":
    target = pathlib.Path(__file__).with_name("brackwater.json")
    target.write_bytes(write_plan(brackwater()))
    target.with_name("networks.json").write_bytes(harbour_networks() + b"\n")
    print(f"{target.name} and networks.json written")
