"""What hosts themselves have for a guest that comes: storage, and a migration network between the two.

Hosts are asked by what their host ports reach, never by pairs: two that migrate in one broadcast domain meet, and between two domains one ping says whether
routers lead there and back.
"""

from __future__ import annotations

import ipaddress
from functools import cached_property
from typing import NamedTuple

import numpy as np

from aptwire.above.outcomes import ANSWERED
from aptwire.above.ping import Pings
from aptwire.judge.judgement import Judgement
from aptwire.judge.voices import voices
from aptwire.judge.why import UNPROVEN, WAVERING
from aptwire.moving.faults import APART, OPEN, STORAGE
from aptwire.plan.hosting import on_switches
from aptwire.plan.kinds import HostPort

MIGRATION, STORAGE_SERVICE = "migration", "storage"


class Standing(NamedTuple):
    """How a host port that carries migration stands: the domain in which it is, its gateway (empty: none) and its networks."""

    domain: tuple[int, ...]
    gateway: str
    networks: tuple[str, ...]


class Ground:
    """Of each host (id): `storage` the segments on which a host port of it that carries storage is at home, `doubted` those on which nobody knows; `migration` how
    those that carry migration stand: those that stand alike reach the same."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.plan = judgement, judgement.plan
        self.voices = voices(judgement)
        self.storage: dict[str, frozenset[str]] = {}
        self.doubted: dict[str, frozenset[str]] = {}
        self.migration: dict[str, frozenset[Standing]] = {}
        self._stands_for: dict[Standing, str] = {}
        for host in self.plan.of("host"):
            self._host(host, [port for port in on_switches(self.plan, "host_port", host) if port.connected])

    def _host(self, host: str, ports: list[HostPort]) -> None:
        there, doubted, standings = set(), set(), set()
        for port in ports:
            place = self.judgement.wiring.place(port.id)
            if place is None:
                continue
            status = self.judgement.verdict(port.id)
            if STORAGE_SERVICE in port.services and port.belongs is not None:
                if status == UNPROVEN:
                    doubted.add(port.belongs)
                elif status <= WAVERING:
                    there.add(port.belongs)
            if MIGRATION in port.services:
                domain = self.voices.steady(place.stand) or self.judgement.spot(self.judgement.number(place.stand))
                networks = tuple(sorted(str(ipaddress.ip_interface(a).network) for a in port.addresses))
                standing = Standing(domain, port.gateway or "", networks)
                standings.add(standing)
                self._stands_for.setdefault(standing, port.id)
        self.storage[host], self.doubted[host] = frozenset(there), frozenset(doubted - there)
        self.migration[host] = frozenset(standings)

    @cached_property
    def _pings(self) -> Pings:
        return Pings(self.judgement)

    @cached_property
    def _together(self) -> dict[tuple[Standing, Standing], bool]:
        return {}

    def met(self, one: str, two: str) -> bool:
        """Whether a migration network leads from a host to another one."""
        mine, its = self.migration[one], self.migration[two]
        return any(self._meet(a, b) for a in sorted(mine) for b in sorted(its))

    def _meet(self, one: Standing, two: Standing) -> bool:
        """Whether two meet: in one domain, or over routers, as a ping of those who stand for them says."""
        if one.domain == two.domain:
            return True
        key = (one, two)
        if key not in self._together:
            found = bool(one.gateway and two.gateway and one.networks and two.networks)
            if found:
                found = self._pings.ask(self._stands_for[one], self._stands_for[two]).outcome == ANSWERED
            self._together[key] = found
        return self._together[key]

    @cached_property
    def classes(self) -> tuple[dict[str, int], list[str]]:
        """The class of each host among those that have the same, and a host of each class."""
        numbers: dict[object, int] = {}
        of = {
            host: numbers.setdefault((self.storage[host], self.doubted[host], self.migration[host]), len(numbers))
            for host in self.storage
        }
        first: dict[int, str] = {}
        for host, number in of.items():
            first.setdefault(number, host)
        return of, [first[number] for number in range(len(numbers))]

    @cached_property
    def faults(self) -> np.ndarray:
        """uint16[classes, classes]: what any guest of a host of the one would miss on a host of the other."""
        _, hosts = self.classes
        made = np.zeros((len(hosts), len(hosts)), dtype=np.uint16)
        for a, one in enumerate(hosts):
            for b, two in enumerate(hosts):
                missing = self.storage[one] - self.storage[two]
                lacks = (OPEN if missing <= self.doubted[two] else STORAGE) if missing else 0
                made[a, b] = lacks if self.met(one, two) else lacks | APART
        return made
