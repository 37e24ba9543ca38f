"""Random small plans with routers: guests and stations that forward, static routes, gateways, and what goes wrong with them."""

from __future__ import annotations

import ipaddress
import random
import re
from collections.abc import Iterator
from typing import Any

from aptwire.plan.edits import Operation, Put
from aptwire.plan.kinds import FilterLine, Route
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import forwarding

from tests.support import Small

VIDS = (10, 20, 30, 40)


def filtered_plan(seed: int) -> Plan:
    """The same without faults, so that what doesn't get through is what filters drop."""
    return routed_plan(seed, faults=False)


def routed_plan(seed: int, faults: bool = True) -> Plan:
    """Such a plan, checked."""
    return _routed(seed, faults).plan()


def _routed(seed: int, faults: bool) -> Small:
    """Two hosts at one switch, four segments with a subnet each, one to three routers in a row or a ring, and faults: a VID that a trunk lacks, a
    gateway that nobody has or whose bearer doesn't forward, a route that is missing, too narrow, or leads back."""
    dice = random.Random(seed)
    made = Small()
    for vid in VIDS:
        made.segment(
            vid, subnets=[f"10.64.{vid}.0/24"], gateways=[f"10.64.{vid}.1"] if dice.random() < 0.8 or not faults else []
        )
    made.fabric("sw")
    for n, host in enumerate("ab"):
        lacking = dice.choice([None, None, None, *VIDS]) if faults else None
        mode = dice.choice(["standby", "pinned", "hashed"])
        ports = [
            made.trunk(f"sw/{host}{k}", ", ".join(str(v) for v in VIDS if v != lacking or k != n % 2)) for k in range(2)
        ]
        made.host(host, *ports, uplink={"mode": mode})
    for n in range(dice.randint(3, 6)):
        vid = dice.choice(VIDS)
        address = f"10.64.{vid}.{20 + n}/{dice.choice([24, 24, 24, 25, 28]) if faults else 24}"
        belongs = dice.choice(["", "", "", None]) if faults else ""
        made.guest(dice.choice("ab"), f"g{n}", vid, belongs, addresses=[address])
    routers = [dice.choice(["guest", "guest", "station"]) for _ in range(dice.randint(1, 3 if faults else 2))]
    order = dice.sample(VIDS, 4)
    legs: list[list[int]] = [[] for _ in routers]
    for n, vid in enumerate(order):
        legs[n % len(routers)].append(vid)
    joined: list[tuple[int, int, int]] = []
    for n in range(len(routers) - 1 + (len(routers) > 2 and dice.random() < 0.3)):
        a, b = n, (n + 1) % len(routers)
        joined.append((a, b, legs[a][0]))
        if legs[a][0] not in legs[b]:
            legs[b].append(legs[a][0])
    for n, kind in enumerate(routers):
        _router(made, dice, n, kind, legs[n], faults)
    for a, b, via in joined:
        _routes(made, dice, routers, legs, a, b, via, faults)
        _routes(made, dice, routers, legs, b, a, via, faults)
    for n, kind in enumerate(routers):
        _filters(made, random.Random(seed + n), n, kind, legs[n], busy=not faults)
    return made


def six_plan(seed: int) -> Plan:
    """Such a plan of IPv6, or of both, with outside networks behind stations or ways in, or somebody who answers for others (of IPv4 alone), or none of these."""
    dice = random.Random(seed + 53)
    make = dice.choice([_outward, _entered, _proxied, None])
    made = make(seed) if make is not None else _routed(seed, faults=dice.random() < 0.6)
    both = dice.random() < 0.3
    fields = {"segment": ("subnets", "gateways"), "adapter": ("addresses",), "station_port": ("addresses",)}
    for kind, names in {**fields, "filter_line": ("sources", "targets")}.items():
        for record, name in ((record, name) for record in made.kinds.get(kind, []) for name in names):
            own = record.get(name, [])
            record[name] = [*(own if both else []), *map(_as_six, own)]
    four = made.kinds.get("route", [])
    six = [
        {**route, "id": f"{route['id']}-six", "to": [*map(_as_six, route["to"])], "via": _as_six(route["via"])}
        for route in four
    ]
    made.kinds["route"] = [*(four if both else []), *six]
    for outside in made.kinds.get("outside", []):
        outside["subnets"] = ["2001:db8:ff::/64"] if outside.get("subnets") else []
        outside |= {"knows": [*map(_as_six, outside.get("knows", []))], "translates": False}
        if outside.get("via"):
            outside["via"] = _as_six(outside["via"])
    return made.plan()


LENGTHS = {0: 0, 16: 32, 24: 64, 25: 121, 27: 123, 28: 124, 30: 126, 32: 128}


def _as_six(text: str) -> str:
    """An address of IPv6, with or without a prefix, or a subnet, in the place of one of IPv4, among as few."""
    address, _, length = text.partition("/")
    found = _numbered_six(address).replace("2001:db8:0::0", "2001:db8::")
    found = found if ":" in found else "::"
    if not length:
        return found
    return str(ipaddress.ip_interface(f"{found}/{LENGTHS[int(length)]}"))


def proxied_plan(seed: int) -> Plan:
    """Such a plan with answers for others, checked."""
    return _proxied(seed).plan()


def _proxied(seed: int) -> Small:
    """Such a plan whose routers answer for others at most of their interfaces, as do some who don't forward, and in which many take all four segments for one subnet."""
    dice = random.Random(seed + 41)
    made = _routed(seed, faults=dice.random() < 0.4)
    routing = [r["id"] for kind in ("guest", "station") for r in made.kinds.get(kind, []) if "routes" in r]
    for record in _bearing(made):
        if _owner(record) in routing:
            record["proxy_arp"] = dice.choice([True, True, True, None])
            continue
        record["proxy_arp"] = dice.choice([True, None, None, None])
        if dice.random() < 0.7:
            record["addresses"] = [f"{text.partition('/')[0]}/16" for text in record.get("addresses", ())]  # type: ignore[attr-defined]
    return made


def outward_plan(seed: int, inward: bool = False) -> Plan:
    """Such a plan with outside networks behind stations, checked."""
    return _outward(seed, inward).plan()


def _outward(seed: int, inward: bool = False) -> Small:
    """Such a plan whose routers translate at some of their interfaces, for everybody or for some, with outside networks behind stations: the internet or a subnet, which
    know ways back or none, or translate."""
    dice = random.Random(seed + 13)
    made = _routed(seed, faults=dice.random() < 0.3)
    routing = [(kind, r["id"]) for kind in ("guest", "station") for r in made.kinds.get(kind, []) if "routes" in r]
    inner = [record["id"] for record in _bearing(made) if _owner(record) in [id for _, id in routing]]
    nets = [f"10.64.{vid}.{part}" for vid in VIDS for part in ("0/24", "0/27", "24/30")]
    for id in dice.sample(inner, min(len(inner), dice.randint(1, 3))):
        made.put("translation", f"hide-{id}", at=id, sources=dice.choice([[], [], dice.sample(nets, 3)]))
    if not any(kind == "station" for kind, _ in routing):
        made.put("station", "edge", name="edge", routes=True)
        vid = dice.choice(VIDS)
        own = {"belongs": f"s{vid}", "addresses": [f"10.64.{vid}.9/24"]}
        made.put("station_port", "edge/out", station="edge", port=made.access("sw/edge", vid), **own)
        routing.append(("station", "edge"))
        for n, (_, id) in enumerate(routing[:-1]):
            if dice.random() < 0.7:
                made.put("route", f"out-{n}", of=id, to=["0.0.0.0/0"], via=f"10.64.{vid}.9")
    for n, (_, id) in enumerate(one for one in routing if one[0] == "station"):
        made.put(
            "outside",
            f"outside-{n}",
            name=f"outside {n}",
            at=id,
            subnets=dice.choice([[], [], ["198.18.0.0/16"]]),
            knows=dice.choice([[], ["10.64.0.0/16"], ["10.64.0.0/16"], [f"10.64.{dice.choice(VIDS)}.0/24"]]),
            translates=dice.random() < 0.4,
        )
    if inward:
        _let_in(made, dice)
    return made


def entered_plan(seed: int) -> Plan:
    """Such a plan with gateways that are outside of it, checked."""
    return _entered(seed).plan()


def _entered(seed: int) -> Small:
    """Such a plan in which the gateway of one segment or two is outside of it, at a port of the switch, with the internet or a subnet behind that, which know ways back
    over a router, or none; some routers send there what isn't theirs, and translate too."""
    dice = random.Random(seed + 67)
    made = _routed(seed, faults=dice.random() < 0.4)
    routing = [r["id"] for kind in ("guest", "station") for r in made.kinds.get(kind, []) if r.get("routes")]
    for n, vid in enumerate(dice.sample(VIDS, dice.choice([1, 1, 2]))):
        gateway = f"10.64.{vid}.254"
        next(s for s in made.kinds["segment"] if s["vid"] == vid)["gateways"] = [gateway]
        port = made.access(f"sw/in{n}", vid) if dice.random() < 0.5 else made.trunk(f"sw/in{n}", "10, 20, 30, 40")
        if dice.random() < 0.1:
            made.kinds["fabric_port"][-1].update(mode="access", vid=vid % 40 + 10, allowed=None)
        made.put("way_in", f"in{n}", segment=f"s{vid}", port=port)
        near = [r for r in _bearing(made) if r.get("belongs") == f"s{vid}" and _owner(r) in routing]
        for record in near:
            if dice.random() < 0.7 and not any(r["of"] == _owner(record) for r in made.kinds.get("route", [])):
                made.put("route", f"out-{record['id']}", of=_owner(record), to=["0.0.0.0/0"], via=gateway)
            if dice.random() < 0.3:
                made.put("translation", f"hide-{record['id']}", at=record["id"])
        said: dict[str, object] = {
            "subnets": [["198.18.0.0/16"], ["198.19.0.0/16"]][n] if n or dice.random() < 0.4 else []
        }
        if near and dice.random() < 0.75:
            knows = dice.choice([["10.64.0.0/16"], ["10.64.0.0/16"], [f"10.64.{dice.choice(VIDS)}.0/24"]])
            said |= {"knows": knows, "via": dice.choice(near)["addresses"][0].split("/")[0]}  # type: ignore[index]
        made.put("outside", f"beyond{n}", name=f"beyond {n}", at=f"in{n}", **said)
    return made


def inward_plan(seed: int) -> Plan:
    """Such a plan whose routers take what comes for some of their addresses to be for guests behind them: all of it, or some ports, at the same or another one; also for
    who asks from within, or not."""
    return outward_plan(seed, inward=True)


def _let_in(made: Small, dice: random.Random) -> None:
    routing = [r["id"] for kind in ("guest", "station") for r in made.kinds.get(kind, []) if r.get("routes")]
    inner = [r for r in _bearing(made) if _owner(r) in routing and r.get("addresses")]
    outer = [r for r in _bearing(made) if _owner(r) not in routing and r.get("addresses")]
    for record in dice.sample(inner, min(len(inner), dice.randint(1, 4))) if outer else ():
        to = dice.choice(outer)["addresses"][0].split("/")[0]  # type: ignore[index]
        protocol = dice.choice(["any", "tcp", "tcp"])
        ports = dice.choice(["", "80, 443", "22-80"]) if protocol == "tcp" else ""
        port = dice.choice([None, None, 5432]) if protocol == "tcp" else None
        said = {"protocol": protocol, "ports": ports, "port": port, "hairpin": dice.random() < 0.5}
        made.put("inward_translation", f"in-{record['id']}", at=record["id"], to=to, **said)


def leasing_plan(seed: int, faults: bool | None = None, six: bool = False) -> Plan:
    """Such a plan with guests that ask for leases, one to three who lease, and relays at routers; and what goes wrong with those: guards that drop answers,
    pools that are empty, other gateways, relays to the wrong address, servers that are off; `six`: of IPv6, which routers advertise as on link, or don't."""
    dice = random.Random(seed + 7)
    made = _routed(seed, faults=dice.random() < 0.5 if faults is None else faults)
    asking = [
        made.guest(dice.choice("ab"), f"l{n}", dice.choice(VIDS), addressing="lease", mac=f"02:00:5e:10:00:{n:02x}")
        for n in range(dice.randint(3, 6))
    ]
    routing = [
        r["id"] for kind in ("guest", "station") for r in made.kinds.get(kind, []) if r.get("routes") is not None
    ]
    for n in range(dice.randint(1, 2)):
        vid = dice.choice(VIDS)
        made.guest(dice.choice("ab"), f"d{n}", vid, addresses=[f"10.64.{vid}.{240 + n}/24"])
        made.kinds["guest"][-1]["running"] = dice.random() < 0.9
    leasing = dice.sample([*routing, "guest-d0"], dice.randint(1, min(2, len(routing) + 1)))
    if "guest-d1" in [g["id"] for g in made.kinds["guest"]]:
        leasing.append("guest-d1")
    for adapter in made.kinds["adapter"]:
        adapter["serve_leases"] = dice.random() < 0.85
    for n, owner in enumerate(leasing):
        for vid in dice.sample(VIDS, dice.randint(2, 4)):
            kept = [f"{a['mac']} 10.64.{vid}.{150 + k}" for k, a in enumerate(_asking(made)) if dice.random() < 0.3]
            made.put(
                "lease_scope",
                f"scope-{n}-{vid}",
                of=owner,
                subnet=f"10.64.{vid}.0/24",
                pool=dice.choice([[f"10.64.{vid}.{100 + 10 * n}-10.64.{vid}.{109 + 10 * n}"]] * 3 + [[]]),
                gateways=dice.choice([[f"10.64.{vid}.1"]] * 3 + [[], [f"10.64.{vid}.9"]]),
                kept=kept,
            )
    held = [a for record in _bearing(made) if _owner(record) in leasing for a in record.get("addresses", ())]  # type: ignore[attr-defined]
    for record in _bearing(made):
        both = _owner(record) in leasing and dice.random() < 0.8
        if _owner(record) in routing and record.get("addresses") and not both and dice.random() < 0.8 and held:
            to = dice.choice(held).partition("/")[0] if dice.random() < 0.9 else "10.64.10.77"
            made.put("lease_relay", f"relay-{record['id']}", at=record["id"], to=[to])
    assert asking
    if six:
        _in_six(made, dice)
    return made.plan()


def _numbered_six(text: str) -> str:
    """The addresses of IPv6 with the same numbers as those of IPv4."""
    return re.sub(r"10\.64\.(\d+)\.(\d+)", r"2001:db8:\1::\2", text)


def _six(text: str) -> str:
    """The address, subnet or range of IPv6 in the place of one of IPv4."""
    found = _numbered_six(text)
    return re.sub(r"/\d+$", "/64", found.replace("::0/", "::/"))


def _in_six(made: Small, dice: random.Random) -> None:
    """What is leased and relayed is of IPv6, beside whatever there is of IPv4, and some who forward advertise what is on link."""
    for kind, fields in (("segment", ("subnets", "gateways", "lease_servers")), ("route", ("to",))):
        for record in made.kinds.get(kind, []):
            for field in fields:
                own = [text for text in record.get(field, []) if "/" not in text or text.endswith(".0/24")]
                record[field] = [*record.get(field, []), *map(_six, own)]
    for route in [*made.kinds.get("route", [])]:
        made.kinds["route"].append({**route, "id": f"{route['id']}-six", "via": _six(route["via"])})
    for of in made.kinds.get("route", []):
        of["to"] = [to for to in of["to"] if (":" in to) == (":" in of["via"])]
    made.kinds["route"] = [route for route in made.kinds.get("route", []) if route["to"]]
    for record in _bearing(made):
        record["addresses"] = [*record.get("addresses", []), *map(_six, record.get("addresses", []))]  # type: ignore[misc]
        if record.pop("addressing", None) == "lease":
            record["addressing6"] = "lease"
        if (record.get("station") or record.get("addresses")) and dice.random() < 0.6:
            vid = int(str(record.get("belongs") or "s10")[1:])
            net = f"2001:db8:{vid if dice.random() < 0.9 else 10}::/64"
            said = dice.choice([{"on_link": [net]}, {"on_link": [net]}, {"prefixes": [net]}, {}])
            made.put(
                "advertisement", f"said-{record['id']}", at=record["id"], router=not said or dice.random() < 0.8, **said
            )
            if "station" not in record:
                record["advertise_routes"] = dice.random() < 0.9
    for scope in made.kinds.get("lease_scope", []):
        scope.update(gateways=[], subnet=_six(scope["subnet"]))
        scope.update({field: list(map(_six, scope[field])) for field in ("pool", "kept")})
    for relay in made.kinds.get("lease_relay", []):
        relay["to"] = [*map(_six, relay["to"])] if dice.random() < 0.7 else [*relay["to"], *map(_six, relay["to"])]


def advertising_plan(seed: int) -> Plan:
    """Such a plan in which routers and strangers advertise prefixes, the segment's own, another's, or none, and guests form addresses of them; guards drop some, some who
    advertise are off, and some ports are isolated or let untagged frames out only."""
    dice = random.Random(seed + 29)
    made = _routed(seed, faults=dice.random() < 0.5)
    for segment in made.kinds["segment"]:
        vid = segment["vid"]
        segment["subnets"] = [*segment["subnets"], f"2001:db8:{vid}::/64"]
        if dice.random() < 0.6:
            segment["gateways"] = [*segment["gateways"], f"2001:db8:{vid}::1"]
    for n in range(dice.randint(3, 5)):
        mac = {"mac": f"02:00:5e:20:00:{n:02x}"} if dice.random() < 0.8 else {}
        made.guest(dice.choice("ab"), f"l{n}", dice.choice(VIDS), addressing6="advertised", **mac)
    for n in range(dice.randint(1, 2)):
        made.guest(dice.choice("ab"), f"x{n}", dice.choice(VIDS))
        made.kinds["guest"][-1]["running"] = dice.random() < 0.9
    owners = {g["id"] for g in made.kinds["guest"] if g.get("routes") is not None or g["id"].startswith("guest-x")}
    for n, record in enumerate(_bearing(made)):
        if "station" not in record and record["guest"] not in owners:
            record["isolated"] = dice.random() < 0.15
            continue
        vid = int(str(record.get("belongs") or "s10")[1:])
        if "station" not in record:
            record["advertise_routes"] = dice.random() < 0.8
        last = dice.choice([1, 1, 9])
        if any(f"2001:db8:{vid}::{last}/64" in other.get("addresses", ()) for other in _bearing(made)):  # type: ignore[operator]
            last = 100 + n
        if dice.random() < 0.8:
            record["addresses"] = [*record.get("addresses", []), f"2001:db8:{vid}::{last}/64"]  # type: ignore[misc]
        if dice.random() < 0.8:
            prefixes = dice.choice([[f"2001:db8:{vid}::/64"]] * 5 + [[], [f"2001:db8:{dice.choice(VIDS)}::/64"]])
            router = dice.random() < 0.8 or not prefixes
            made.put("advertisement", f"said-{record['id']}", at=record["id"], prefixes=prefixes, router=router)
    return made.plan()


def _asking(made: Small) -> list[dict[str, Any]]:
    return [a for a in made.kinds["adapter"] if a.get("addressing") == "lease"]


def _owner(record: dict[str, object]) -> object:
    return record.get("guest", record.get("station"))


def _filters(made: Small, dice: random.Random, n: int, kind: str, vids: list[int], busy: bool) -> None:
    """Up to four lines of a router's filter, which speak of interfaces, subnets, single addresses, protocols and ports."""
    owner = f"guest-r{n}" if kind == "guest" else f"r{n}"
    interfaces = [f"r{n}v{vid}" if kind == "guest" else f"r{n}/{vid}" for vid in vids]
    nets = [f"10.64.{vid}.0/{length}" for vid in VIDS for length in (24, 27)]
    bound = [text for record in _bearing(made) for text in record.get("addresses", ())]  # type: ignore[attr-defined]
    nets += [f"{text.split('/')[0]}/32" for text in bound]
    for order in range(dice.choice([0, 0, 1, 2, 4]) if not busy else 4):
        protocol = dice.choice(["any", "icmp", "icmp", "tcp", "udp"])
        said: dict[str, object] = {
            "enters": dice.choice([None, None, *interfaces]),
            "leaves": dice.choice([None, None, *interfaces]),
            "sources": dice.choice([[], [dice.choice(nets)], dice.sample(nets, 2)]),
            "targets": dice.choice([[], [dice.choice(nets)], dice.sample(nets, 2)]),
            "ports": dice.choice(["", "80", "22, 8000-8080"]) if protocol in ("tcp", "udp") else "",
        }
        made.put(
            "filter_line",
            f"f{n}-{order}",
            of=owner,
            order=10 * order + 10,
            action=dice.choice(["allow", "deny"]),
            protocol=protocol,
            **{name: value for name, value in said.items() if value},
        )


def _address(n: int, vid: int, owned: bool) -> str:
    return f"10.64.{vid}.{1 if owned else 2 + n}/24"


def _router(made: Small, dice: random.Random, n: int, kind: str, vids: list[int], faults: bool) -> None:
    forwards = dice.random() < 0.75 or not faults
    own = {vid: not any(f"10.64.{vid}.1/24" in r.get("addresses", ()) for r in _bearing(made)) for vid in vids}
    if kind == "station":
        made.put("station", f"r{n}", name=f"r{n}", routes=forwards)
        port = made.trunk(f"sw/r{n}", ", ".join(map(str, vids)))
        for vid in vids:
            made.put(
                "station_port",
                f"r{n}/{vid}",
                station=f"r{n}",
                port=port,
                vid=vid,
                belongs=f"s{vid}",
                addresses=[_address(n, vid, own[vid])],
            )
        return
    host = dice.choice("ab")
    made.put("guest", f"guest-r{n}", host=host, name=f"r{n}", routes=forwards)
    for vid in vids:
        name = f"r{n}v{vid}"
        group = made.put("port_group", f"{host}/{name}", switch=f"{host}/s", name=name, mode="access", vid=vid)
        made.put(
            "adapter",
            name,
            guest=f"guest-r{n}",
            name=name,
            port_group=group,
            belongs=f"s{vid}",
            addresses=[_address(n, vid, own[vid])],
        )


def _routes(
    made: Small,
    dice: random.Random,
    routers: list[str],
    legs: list[list[int]],
    here: int,
    other: int,
    via: int,
    faults: bool,
) -> None:
    """A router's routes to what is behind another one, over the segment that joins them."""
    name = f"r{other}v{via}" if routers[other] == "guest" else f"r{other}/{via}"
    held = next((r["addresses"][0] for r in _bearing(made) if r["id"] == name), None)
    behind = [vid for vid in legs[other] if vid not in legs[here]]
    if held is None or not behind or (faults and dice.random() < 0.1):
        return
    to = dice.choice([["0.0.0.0/0"], ["10.64.0.0/16"], [f"10.64.{vid}.0/24" for vid in behind]])
    if faults and dice.random() < 0.1:
        to = [f"10.64.{behind[0]}.0/28"]
    owner = f"guest-r{here}" if routers[here] == "guest" else f"r{here}"
    made.put("route", f"route-{here}-{other}", of=owner, to=to, via=held.split("/")[0])


def _bearing(made: Small) -> list[dict[str, object]]:
    return [*made.kinds.get("adapter", []), *made.kinds.get("station_port", [])]


def more_lines(plan: Plan, dice: random.Random, nets: list[str], via: str) -> Iterator[Operation]:
    """A filter line and a route more, each of somebody who forwards, where anybody does, for one of some subnets; the route over an address."""
    owners = [owner.id for owner in forwarding(plan)]
    if owners:
        net = dice.choice(nets)
        where = {dice.choice(["sources", "targets"]): (net,)}
        order = dice.randrange(100)
        yield Put(FilterLine(id=f"line-{order}", of=dice.choice(owners), order=order, action="deny", **where))
        yield Put(Route(id=f"way-{order}", of=dice.choice(owners), to=(net,), via=via))
