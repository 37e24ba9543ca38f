"""Pings and leases: what the stacks at both ends make of a plan's frames, beside the frames themselves."""

from __future__ import annotations

import ipaddress
import random
from collections.abc import Iterator
from dataclasses import dataclass

from aptwire.above.outcomes import ANSWERED, SILENT
from aptwire.above.ping import Ping, Pings
from aptwire.forward.frames import Frames, may
from aptwire.forward.parts import NOW
from aptwire.judge.verdicts import judge
from aptwire.plan.fields import bare_address
from aptwire.plan.filters import PING as ICMP
from aptwire.plan.filters import Packet, read_ports
from aptwire.plan.kinds import PLACES, FilterLine, InwardTranslation, Outside
from aptwire.plan.names import called
from aptwire.plan.outside import StandIns
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import Bound, bound_of, owner_of

from aptwire_bench.entering import entries
from aptwire_bench.scene import Limit, Scene, seats_of

PING, LEASE, REACH, CONNECT = "ping", "lease", "reach", "connect"
PORTS = (22, 80, 443, 5432)
"""To some of these connections are made, and to those of which filters speak."""


@dataclass(frozen=True)
class Holder:
    """Who has an address: the record, the seat where its frames enter and leave, and the tag that it uses."""

    record: str
    seat: str
    vid: int | None
    address: Bound
    segment: str | None


@dataclass(frozen=True)
class Trial:
    """A ping to an address out of one interface, one that goes as routing tables say (*reach*), a connection to a `port` (*connect*), or a lease from a server: who
    asks whom, whether the engine says that it succeeds, and the `seats` of all that may have a part in it."""

    what: str
    source: Holder
    target: Holder
    expected: bool
    seats: frozenset[str]
    port: int = 0
    ears: tuple[tuple[str, int], ...] = ()
    """Of a connection: at which interfaces (records) and ports somebody listens, in case it is translated inwards."""

    def say(self, plan: Plan) -> str:
        """In words."""
        names = [called(plan, plan.find(h.record)) for h in (self.source, self.target)]
        if self.what == CONNECT:
            return f"{names[0]} connects to tcp {self.port} at {self.target.address.ip} of {names[1]}"
        if self.what != LEASE:
            return f"{names[0]} pings {self.target.address.ip} of {names[1]}"
        return f"{names[0]} asks for a lease of {names[1]}"


def holders(plan: Plan, frames: Frames, version: int = 4) -> list[Holder]:
    """Everybody with one address of an IP version that nobody else has, at a seat; guests that tag for themselves are left out."""
    found: list[Holder] = []
    for kind in ("adapter", "host_port", "station_port"):
        for record in sorted(plan.all(kind), key=lambda r: r.id):
            if kind == "adapter" and plan.where("guest_tag", "adapter", record.id):
                continue
            seat = record.port if kind == "station_port" else record.id
            mine = [a for a in record.addresses if (":" in a) == (version == 6) and "/" in a]
            if len(mine) == 1 and seat in frames.seats and not frames.seats[seat].vni:
                vid = record.vid if kind == "station_port" else None
                found.append(Holder(record.id, seat, vid, bound_of(mine[0]), record.belongs))
    taken = [a.split("/")[0] for r in plan for a in getattr(r, "addresses", ())]
    return [h for h in found if taken.count(str(h.address.ip)) == 1]


def meets(frames: Frames, one: Holder, two: Holder) -> bool:
    """Whether each hears the other, with the tag that it uses."""
    there = (two.seat, two.vid) in frames.heard(one.seat, one.vid)
    return there and (one.seat, one.vid) in frames.heard(two.seat, two.vid)


def choose(plan: Plan, frames: Frames, most: int, seed: int) -> list[Trial]:
    """A sample of pings within a subnet and over routers, and of leases."""
    dice = random.Random(seed)
    everybody = holders(plan, frames)
    # Who takes what is for him to be for somebody else isn't known by frames alone.
    turning = {turned.at for turned in plan.all(InwardTranslation)}
    proxied = any(_for_others(plan))
    pings = [
        Trial(PING, a, b, meets(frames, a, b), frozenset([a.seat, b.seat]))
        for a in everybody
        for b in everybody
        if a is not b
        and a.seat != b.seat
        and a.address.network == b.address.network
        and _machine(plan, a) != _machine(plan, b)
        and b.record not in turning
        and not proxied
    ]
    leases = list(_leases(plan, frames, everybody))
    made = [*dice.sample(pings, min(most, len(pings))), *_reaches(plan, everybody, most // 2, dice)]
    made += _reaches(plan, holders(plan, frames, 6), most // 2, dice)
    servers: set[str] = set()
    clients: set[str] = set()
    for lease in dice.sample(leases, len(leases)):
        # Two servers that hear one question would both answer; one at a time tells who did.
        # A server would hear its own machine's question too.
        if len(servers) == most // 6 or lease.target.seat in clients or lease.source.seat in servers:
            continue
        others = [t for t in made if t.what == LEASE]
        if not any(
            meets(frames, a.source, b.target) for a, b in [(lease, t) for t in others] + [(t, lease) for t in others]
        ):
            servers.add(lease.target.seat)
            clients.add(lease.source.seat)
            made.append(lease)
    return made


def _machine(plan: Plan, holder: Holder) -> str:
    """The guest, station or host whose address it is."""
    record = plan.find(holder.record)
    assert record is not None
    return record.id if record.kind == Outside.kind else owner_of(plan, record).id


def _reaches(plan: Plan, everybody: list[Holder], most: int, dice: random.Random) -> Iterator[Trial]:
    """From one stack to another, over as many routers as it takes: half of them answered, as far as there are any, half of them connections.  What the engine
    doesn't know isn't asked."""
    six = any(holder.address.version == 6 for holder in everybody)
    ends = [*everybody, *_outsides(plan, 6 if six else 4)]
    # Where somebody answers for others, whoever takes everybody to be on his link reaches them over routers.
    proxied = any(_for_others(plan)) and not six
    pairs = [(a, b) for a in ends for b in ends if a is not b and (proxied or a.address.network != b.address.network)]
    judgement = judge(plan) if pairs else None
    texts = [*(line.ports for line in plan.all(FilterLine)), *(turned.ports for turned in plan.all(InwardTranslation))]
    spoken = {port for text in texts for low, high in read_ports(text) for port in (low, high)}
    ports = sorted(spoken.union(PORTS))
    inward: dict[str, set[int]] = {}
    for turned in plan.all(InwardTranslation):
        inward.setdefault(turned.to, set()).add(turned.port or 0)
    half = {ANSWERED: most - most // 2, SILENT: most // 2}
    left = {(outcome, port): n - n // 2 if port else n // 2 for outcome, n in half.items() for port in (False, True)}
    for n, (a, b) in enumerate(dice.sample(pairs, min(8 * most, len(pairs)))):
        assert judgement is not None
        port = dice.choice(ports) if n % 2 else 0
        packet = Packet("tcp", port) if port else ICMP
        # Everybody is on in the kernel.
        # Of several addresses of somebody the one is meant; what is outside is meant as it is, since its address may be elsewhere too.
        target = str(b.address.ip) if six and b.record not in plan.of(Outside.kind) else b.record
        told = Pings(judgement, exact=True, waking=True).ask(a.record, target, NOW, packet)
        if not left.get((told.outcome, bool(port))) or _machine(plan, a) == _machine(plan, b):
            continue
        if any((":" in way.target) != six for way in told.ways):
            continue
        left[told.outcome, bool(port)] -= 1
        seats = frozenset(_seats(plan, told, a, b))
        ears = tuple((e.record, p) for e in everybody for p in inward.get(str(e.address.ip), ())) if port else ()
        ears = ((b.record, port), *((record, own or port) for record, own in ears))
        yield Trial(CONNECT if port else REACH, a, b, told.outcome == ANSWERED, seats, port, ears)


def _outsides(plan: Plan, version: int) -> Iterator[Holder]:
    """The outside networks behind stations and ways in, each as the address of an IP version that stands for it, which nobody may tell whose it is where it stands for
    several."""
    stand_ins = StandIns(plan)
    found = {outside: stand_ins.of(outside, version)[:1] for outside in sorted(plan.all(Outside), key=lambda o: o.id)}
    seats = {outside.id: way.port for way, outside in entries(plan)}
    seats |= {outside.id: outside.at for outside in found if outside.at in plan.of("station")}
    for outside, own in found.items():
        if own and outside.id in seats and list(found.values()).count(own) == 1:
            yield Holder(outside.id, seats[outside.id], None, ipaddress.ip_interface(own[0]), None)


def _for_others(plan: Plan) -> Iterator[str]:
    """Whoever forwards and answers for others at some interface."""
    for kind in PLACES:
        for record in plan.all(kind):
            if record.proxy_arp and getattr(owner := owner_of(plan, record), "routes", False):
                yield owner.id


def _seats(plan: Plan, told: Ping, *ends: Holder) -> Iterator[str]:
    """Where everybody sits who may have a part in a ping: who sends, and whoever has the address of a next hop, with all their interfaces."""
    addresses = {leg.address for way in told.ways for leg in way.legs}
    addresses |= {turned.to for turned in plan.all(InwardTranslation)}
    sending = {leg.out for way in told.ways for leg in way.legs} | {end.record for end in ends}
    records = [record for kind in PLACES for record in plan.all(kind)]
    having = [r for r in records if r.id in sending or any(bare_address(a) in addresses for a in r.addresses)]
    owners = {owner_of(plan, record).id for record in having}
    owners |= {outside.at for outside in plan.all(Outside)} | set(_for_others(plan))
    yield from seats_of(plan, owners)
    yield from (way.port for way, _ in entries(plan))


def _leases(plan: Plan, frames: Frames, everybody: list[Holder]) -> Iterator[Trial]:
    """From an adapter to whoever could serve leases in its subnet; an adapter serves only where its guards let it."""
    for client in everybody:
        if client.record not in plan.of("adapter"):
            continue
        for server in everybody:
            if server.seat == client.seat or server.address.network != client.address.network:
                continue
            if server.address.network.prefixlen > 28:
                continue
            adapter = plan.of("adapter").get(server.record)
            expected = may(plan, adapter, "serve_leases") and meets(frames, client, server)
            yield Trial(LEASE, client, server, expected, frozenset([client.seat, server.seat]))


SIZE, SLACK = 1_000, 0.25
"""Bytes of a frame in a burst; seconds in which a burst is surely sent."""


@dataclass(frozen=True)
class Burst:
    """Frames sent one after the other past an adapter's limit: between `least` and `most` of them come to `watch`."""

    limit: Limit
    sender: str
    watch: str
    count: int
    least: int
    most: int

    def say(self, plan: Plan) -> str:
        """In words."""
        names = [called(plan, plan.find(id)) for id in (self.sender, self.watch)]
        return f"{self.count} frames of {SIZE} bytes from {names[0]} to {names[1]}, of which {self.least} to {self.most} pass"


def burst_frame(mac: str) -> bytes:
    """A broadcast from an address, of SIZE bytes."""
    return (b"\xff" * 6 + bytes.fromhex(mac.replace(":", "")) + b"\x88\xb5APTW\xff\xff\xff\xff").ljust(SIZE, b"\0")


def bursts(plan: Plan, frames: Frames, scene: Scene, most: int) -> list[Burst]:
    """One burst for each limit that somebody can see, as far as its bucket is large beside what trickles in meanwhile."""
    limited = {limit.seat for limit in scene.limits}
    made: list[Burst] = []
    for limit in scene.limits:
        trickle = limit.rate * 125 * SLACK
        if limit.burst < 3 * SIZE or trickle > limit.burst or len(made) == most:
            continue
        if limit.way == "send":
            seen = sorted(id for id, tag in frames.reached(limit.seat, None) if tag is None and id not in limited)
            ends = (limit.seat, seen[0]) if seen else None
        else:
            speaking = (s for s in sorted(frames.seats) if s not in limited and s != limit.seat)
            sender = next((s for s in speaking if (limit.seat, None) in frames.reached(s, None)), None)
            ends = (sender, limit.seat) if sender is not None else None
        if ends is not None:
            full = limit.burst // SIZE
            made.append(Burst(limit, *ends, count=3 * full + 10, least=full - 1, most=full + 1 + int(trickle // SIZE)))
    return made


def trial_job(trial: Trial, stacks: dict[str, tuple[str, str]]) -> dict[str, object]:
    """A trial as the agent takes it."""
    made: dict[str, object] = {"what": trial.what, "from": list(stacks[trial.source.record])}
    if trial.what in (REACH, CONNECT):
        made["from"] = [stacks[trial.source.record][0], ""]
    if trial.what == CONNECT:
        made |= {"at": [[stacks[record][0], port] for record, port in trial.ears], "port": trial.port}
    if trial.what != LEASE:
        return {**made, "to": str(trial.target.address.ip)}
    net = trial.target.address.network
    first, last = net.network_address + 2, net.broadcast_address - 1
    return {**made, "server": [*stacks[trial.target.record], str(first), str(last), str(net.netmask)]}
