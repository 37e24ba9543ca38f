"""What an interface forms of what is advertised on its link, as values (RFC 4862); how it is found is told in `above/adverts.py`."""

from __future__ import annotations

import hashlib
import ipaddress
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

from aptwire.above.outcomes import ANSWERED, SILENT
from aptwire.forward.parts import NOW, State
from aptwire.judge.lease import EITHER, NO_LEASES, WRONG, Lease, Pooled
from aptwire.plan.kinds import INTERFACE_BITS, Advertisement
from aptwire.plan.layers import layered, perhaps_differing
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import Address, Held, adapter_of

if TYPE_CHECKING:
    from aptwire.judge.judgement import Judgement

TAKEN, UNHEARD = "formed", "unheard"
FORMINGS = (TAKEN, UNHEARD, WRONG, EITHER)
"""What becomes of an interface that listens, beside *wavers* and *unproven*: addresses of its own segment; none; others; both, or another way out too."""


def on_link(said: Advertisement, leasing: bool) -> tuple[str, ...]:
    """The prefixes that are of use to somebody who hears an advertisement: those of which he forms addresses, or (`leasing`) those that are on link."""
    return (*said.prefixes, *said.on_link) if leasing else said.prefixes


@dataclass(frozen=True)
class Advert:
    """An advertisement as an interface hears it: `by` a guest, station or host, heard `at` an interface (a record); `vias` are the addresses over which its sender is
    a way out, as far as it is one and the plan says them; and whether it is heard (ANSWERED, WAVERS, UNPROVEN, SILENT), why not, and in which state first."""

    by: str
    at: str
    said: Advertisement
    vias: tuple[str, ...]
    outcome: str
    reason: str
    state: State = NOW

    def to_json(self) -> dict[str, Any]:
        """The advertisement for a program."""
        told = {name: getattr(self, name) for name in ("by", "at", "outcome", "reason")}
        said = self.said
        return {**told, "prefixes": list(said.prefixes), "on_link": list(said.on_link), "router": said.router}


class Link(NamedTuple):
    """What is surely heard on a link: the subnets there, the addresses of who offers the way out, and whether there is one of whom the plan says none."""

    nets: tuple[ipaddress.IPv4Network | ipaddress.IPv6Network, ...]
    vias: tuple[Address, ...]
    unsaid: bool


@dataclass(frozen=True)
class Formed:
    """What an interface forms of what is advertised, or hears of its link where it leases its address: TAKEN, UNHEARD, WRONG, EITHER, WAVERS or UNPROVEN, and why; the `adverts` on its link, heard or not; the `state` in which
    it forms none, and whom (a record) it ought to hear, or not to."""

    outcome: str
    adverts: tuple[Advert, ...]
    reason: str
    state: State = NOW
    towards: str = ""

    @cached_property
    def heard(self) -> tuple[Advert, ...]:
        """The advertisements that are heard, or perhaps."""
        return tuple(advert for advert in self.adverts if advert.outcome != SILENT)

    @cached_property
    def link(self) -> Link:
        """What is surely heard of the link by who forms addresses of it; found once, since all that stand alike form the same."""
        return self._link(leasing=False)

    @cached_property
    def leased_link(self) -> Link:
        """The same for who leases his address."""
        return self._link(leasing=True)

    def _link(self, leasing: bool) -> Link:
        adverts = [advert for advert in self.heard if advert.outcome == ANSWERED]
        routers = [advert for advert in adverts if advert.said.router]
        prefixes = dict.fromkeys(prefix for advert in adverts for prefix in on_link(advert.said, leasing))
        nets = tuple(ipaddress.ip_network(prefix) for prefix in prefixes)
        over = [[via for via in map(ipaddress.ip_address, r.vias) if any(via in net for net in nets)] for r in routers]
        return Link(nets, tuple(dict.fromkeys(via for of in over for via in of)), not all(over))

    @cached_property
    def said(self) -> frozenset[str]:
        """The records (ids) in which it is said what is advertised."""
        return frozenset(advert.said.id for advert in self.adverts)

    @property
    def got(self) -> str:
        """What it forms in a few words: the prefixes, or that there are none."""
        prefixes = dict.fromkeys(prefix for advert in self.heard for prefix in advert.said.prefixes)
        return " and ".join(prefixes) or ("no prefix" if self.outcome == UNHEARD else "not known")

    def by(self, plan: Plan) -> str:
        """Who advertises it, by name."""
        return some(dict.fromkeys(called(plan, plan.find(advert.by)) for advert in self.heard))

    def to_json(self) -> dict[str, Any]:
        """What is formed, for a program."""
        return {"outcome": self.outcome, "reason": self.reason, "adverts": [one.to_json() for one in self.adverts]}


@dataclass(frozen=True)
class Formed6:
    """What interfaces have formed, where that is known (`held`, by record), and of what that was found."""

    formed: Mapping[str, Formed]
    leases6: Mapping[str, Lease]
    held: Mapping[str, tuple[Held, ...]]

    def after(self, judgement: Judgement, edited: Iterable[str]) -> Formed6:
        """The same in a judgement, after an edit of some records (ids): an address for each prefix, which stands for whichever it may be, since a host may
        choose the rest of it as it likes (RFC 8981, RFC 7217).  What stands as before is taken over."""
        plan, formed, leases6 = judgement.plan, judgement.formed, judgement.leases6
        found: dict[str, tuple[Held, ...] | None] = {}
        for record in _given_else(self, judgement).union(edited):
            own: tuple[Held, ...] = ()
            heard = formed.get(record)
            if heard is not None and heard.outcome == TAKEN and record not in leases6:
                lower = _own_bits(plan, record)
                nets, vias, unsaid = heard.link
                firsts = ((int(net.network_address), net.prefixlen) for net in nets)
                own = tuple(Held((6, first | lower, first, length), False, vias, unsaid) for first, length in firsts)
            if own != self.held.get(record, ()):
                found[record] = own or None
        return Formed6(formed, leases6, layered(self.held, found))


@dataclass(frozen=True)
class Leased6:
    """What interfaces have by lease of IPv6, where that is known (`held`, by record): the leases that `fit` what is advertised, and the rest of what that was found of."""

    formed: Mapping[str, Formed]
    leases6: Mapping[str, Lease]
    fit: Mapping[str, Lease]
    pooled: Pooled
    held: Mapping[str, Held]

    def after(self, judgement: Judgement) -> Leased6:
        """The same in a judgement, with the way out that is advertised where it is; the subnet of a lease must be, too, or it has none
        on link (RFC 5942 section 4).  What stands as before is taken over."""
        formed, leases6 = judgement.formed, judgement.leases6
        fit: dict[str, Lease | None] = {}
        asked = _given_else(self, judgement)
        for record in asked:
            lease, fit[record] = leases6.get(record), None
            if lease is not None:
                nets = set(map(str, formed[record].leased_link.nets))
                if formed[record].outcome == TAKEN and {offer.scope.subnet for offer in lease.heard} <= nets:
                    fit[record] = lease
        fitting = layered(self.fit, fit)
        pooled = self.pooled.after(judgement.plan, fitting)
        held: dict[str, Held | None] = {}
        for record in asked.union(perhaps_differing(self.pooled.held, pooled.held)):
            one = pooled.held.get(record)
            if one is not None:
                link = formed[record].leased_link
                one = one._replace(gateways=link.vias, unsaid=link.unsaid)
            if one != self.held.get(record):
                held[record] = one
        return Leased6(formed, leases6, fitting, pooled, layered(self.held, held))


NONE_FORMED = Formed6({}, {}, {})
NO_LEASES6 = Leased6({}, {}, {}, NO_LEASES, {})


def _given_else(before: Formed6 | Leased6, judgement: Judgement) -> set[str]:
    """The interfaces (records) that get something else of IPv6 in a judgement than they got before, or may."""
    return {
        *perhaps_differing(before.formed, judgement.formed),
        *perhaps_differing(before.leases6, judgement.leases6),
    }


def _own_bits(plan: Plan, record: str) -> int:
    """The lower half of the address that stands for those of an interface: of its MAC address, where it is known (RFC 4291 appendix A), else one of nobody's."""
    found = plan.find(record)
    adapter = adapter_of(plan, found)
    if adapter is None or adapter.mac is None:
        digest = hashlib.blake2b(record.encode(), digest_size=INTERFACE_BITS // 8).digest()
        return int.from_bytes(digest) | 1 << INTERFACE_BITS - 1
    octets = bytes.fromhex(adapter.mac.replace(":", ""))
    return int.from_bytes(bytes([octets[0] ^ 2]) + octets[1:3] + b"\xff\xfe" + octets[3:])
