"""What a compiled plan is made of: bridges, links, team members, stands, places, states."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from aptwire.forward.rules import PortRule
from aptwire.plan.kinds import Adapter, FabricPort, Lag, Nic, Uplink
from aptwire.plan.plan import Plan

HOMELESS, STATIONS, ADAPTERS = "", " stations", " adapters"
"""Keys beside those of records: no id begins with a space."""


@dataclass(frozen=True, eq=False)
class Bridge:
    """Something that forwards: a virtual switch, a fabric switch, an assumed fabric, a NIC with virtual functions in
    use, or a bare cable between hosts.

    `crossing_row` is its row among the bridges that frames may cross on their way (-1: a virtual switch with at most
    one uplink, where every way ends).
    """

    number: int
    id: str
    virtual: bool
    crossing_row: int
    assumed: bool = False


@dataclass(frozen=True, eq=False)
class Link:
    """A way between two bridges.  Each end: the bridge, its port's rule, the records of that port from inside out.

    `mtu` is the least that the ports on it say, 0 where none says anything; `nic` what fails with it; `back_over`: it stands for what
    comes back over this NIC instead, which doesn't lead there.
    """

    key: str
    ends: tuple[int, int]
    rules: tuple[PortRule, PortRule]
    records: tuple[tuple[str, ...], tuple[str, ...]]
    cable: str | None
    nic: str | None = None
    mtu: int = 0
    back_over: str | None = None

    def side(self, bridge: int) -> int:
        """0 or 1: the end that is on the bridge."""
        return 0 if self.ends[0] == bridge else 1


class MemberKey(NamedTuple):
    """A member by its NIC (or port), and whether it stands for answers that come back there."""

    nic: str
    one_way: bool = False


class TeamKey(NamedTuple):
    """A team by its uplink (or LAG), and the order that is meant (empty: the uplink's own)."""

    uplink: str
    order: str = ""


@dataclass(frozen=True, eq=False)
class Member:
    """A NIC of an uplink (or a port of a LAG): its link, or None with the reason (`open`: nothing is plugged in; else it is dead).

    `excluded`: the team's order leaves it out.  `one_way`: it stands for answers that come back over this NIC, which drops them since another one carries.
    """

    nic: Nic | FabricPort
    link: Link | None
    open: bool
    dead: str = ""
    one_way: bool = False
    excluded: bool = False

    @property
    def key(self) -> MemberKey:
        """What a state calls it by."""
        return MemberKey(self.nic.id, self.one_way)


@dataclass(frozen=True, eq=False)
class Team:
    """An uplink (or a LAG between two fabric switches): its members in the order in which they would carry, those without link last.

    `order` is empty, or the port group (or "adapters", on a switch with a wireless NIC) for which this order holds; of a LAG,
    the NIC for whose virtual functions it may send over that NIC or another.
    """

    uplink: Uplink | Lag
    bridge: int
    rule: PortRule
    members: tuple[Member, ...]
    usable: int
    order: str = ""

    @property
    def key(self) -> TeamKey:
        """What a state calls it by."""
        return TeamKey(self.uplink.id, self.order)

    @property
    def mode(self) -> str:
        """How its members share; a LAG hashes."""
        return self.uplink.mode if isinstance(self.uplink, Uplink) else "hashed"


@dataclass(eq=False, slots=True)
class Stand:
    """Places that no frame can tell apart: the same port of the same bridge, the same tag, belonging on the same segment.

    `block` and `index` say where it is kept.  `context` is the class in the bridge, -1 where frames are dropped at once (`reason` says why); `hears` the contexts
    whose frames come out with the stand's label; `order` the team order that holds for it; `vni` and `over` (the
    record of the host port that carries it) of an overlay.  `records` are its places; `awake` and `asleep` count the
    endpoints among them that have no other place.
    """

    block: str
    index: int
    bridge: int
    rule: PortRule | None
    label: int
    context: int
    hears: tuple[int, ...]
    segment: str | None
    order: str
    judged: bool
    reason: str = ""
    vni: int = 0
    over: str = ""
    carrier: Stand | None = None
    records: list[str] = field(default_factory=list)
    awake: int = 0
    asleep: int = 0

    @property
    def plain(self) -> bool:
        """Whether it speaks and hears in one and the same context."""
        return self.hears == (self.context,)


@dataclass(frozen=True, slots=True)
class Place:
    """One endpoint on one tag: `record` is the adapter, guest tag, host port or station port; `endpoint` what owns it; `asked` the VID,
    where somebody asks for a tag that it isn't meant to use."""

    record: str
    endpoint: str
    stand: Stand
    addresses: tuple[str, ...]
    asked: int | None = None

    @property
    def bridge(self) -> int:
        """The bridge that its frames enter."""
        return self.stand.bridge

    @property
    def rule(self) -> PortRule | None:
        """Its port's rule; None: it is in no port group."""
        return self.stand.rule

    @property
    def label(self) -> int:
        """How its frames look: 0 untagged, else the class of the tag."""
        return self.stand.label

    @property
    def context(self) -> int:
        """Where its frames are once inside; -1: dropped at once."""
        return self.stand.context

    @property
    def segment(self) -> str | None:
        """The segment on which it belongs."""
        return self.stand.segment

    @property
    def reason(self) -> str:
        """Why its frames are dropped at once."""
        return self.stand.reason


@dataclass(frozen=True)
class State:
    """What carries: teams with another member than today's, and NICs whose link is lost."""

    choice: dict[TeamKey, MemberKey] = field(default_factory=dict)
    lost: frozenset[str] = frozenset()


NOW = State()


def adapter_block(plan: Plan, adapter: Adapter) -> str:
    """The key of the block in which an adapter stands."""
    if adapter.type == "direct":
        return str(adapter.function_of)
    group = plan.of("port_group").get(adapter.port_group)
    if group is None:
        return HOMELESS
    if group.mode == "overlay":
        return str(plan.get("host_port", group.over).switch)
    return str(group.switch)
