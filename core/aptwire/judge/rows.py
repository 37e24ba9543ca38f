"""The judge's arrays: (stand, way) rows gathered from the blocks, where each enters the fabric, and the group that it is in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aptwire.forward.domains import Domains, Pairings
from aptwire.forward.parts import Stand
from aptwire.forward.wiring import Wiring
from aptwire.judge.gathered import AT_HOME, Gathered, gather
from aptwire.judge.judgement import Columns, Intent, Rows, is_idle
from aptwire.plan.kinds import (
    SecondaryVlan,
)

MOST_COMPONENTS = 1 << 28


@dataclass(frozen=True)
class Gate:
    """A gateway address: the stands and records that bear it and run, those that are idle, and the nodes at which it comes in from
    outside the plan."""

    address: str
    awake: tuple[tuple[int, str], ...]
    idle: tuple[str, ...]
    entries: tuple[int, ...]

    @property
    def bearer(self) -> str:
        """The record that stands for it; empty where it is outside the plan."""
        return next((record for _, record in self.awake), next(iter(self.idle), ""))


class LandingRows:
    """The rows of a wiring, and what they reach."""

    def __init__(
        self,
        wiring: Wiring,
        pairings: Pairings,
        domains: Domains,
        known: Intent | None = None,
        gathered: Gathered | None = None,
    ) -> None:
        self.wiring = wiring
        self.plan = wiring.plan
        self.pairings = pairings
        self.domains = domains
        self.count = wiring.classes.count
        self.segments = sorted(self.plan.of("segment"))
        self.intent = Intent.of(self.plan, known)
        self.gathered = gather(wiring, pairings, self.intent.subnets, gathered)
        self.stands, self.teams, self.offsets = self.gathered.stands, self.gathered.teams, self.gathered.offsets
        listed = [np.ascontiguousarray(self.gathered.columns[:, n]) for n in range(7)]
        self.columns = Columns(*listed, *(self.gathered.columns[:, n] > 0 for n in (7, 8)))
        self.segment, self.context, self.bridge = self.columns.segment, self.columns.context, self.columns.bridge
        self.vni, self.weight = self.columns.vni, self.columns.weight
        records = [self.plan.get("segment", id) for id in self.segments]
        self.tag = np.array([-2 if s.vni else wiring.classes.of[s.vid or 0] for s in records] or [0], dtype=np.int32)
        self.vni_of = np.array([s.vni or -1 for s in records] or [0], dtype=np.int64)
        self.private = set(np.flatnonzero(self.columns.private).tolist())
        self.private_segments = {int(self.segment[n]) for n in self.private} - {-1}
        self.routers = self._routers()
        self.routed_segments = {int(self.segment[n]) for n in self.routers} - {-1}
        inside = self.bridge * self.count + np.maximum(self.context, 0) + self.vni * len(wiring.bridges) * self.count
        self.local = np.where((self.context >= 0) & ~self.columns.deaf, inside, -1 - np.arange(len(self.stands)))
        # Groups are numbered alike in every state: the fabric's components, each switch's contexts, and whoever is alone; each VNI anew.
        self.base = MOST_COMPONENTS
        self.alone = self.base + (len(wiring.bridges) + 1) * self.count
        self.scale = self.alone + len(self.stands) + 1
        self.rows = self._rows()

    def _rows(self) -> Rows:
        count = self.count
        stand, way, team, member, pair, trunk, opened = (self.gathered.table[:, n] for n in range(7))
        there_table, back_table = self.pairings.tables(count)
        far = trunk.astype(np.int64) * count
        context = self.context[stand]
        there, mutual, entered = self._enter(context, pair, far, there_table, back_table)
        landed = np.where(there >= 0, there, context).astype(np.int16)
        self._beyond_unmanaged(landed, entered)
        segment = self.segment[stand]
        wanted = self.tag[np.maximum(segment, 0)]
        primary = np.arange(count)
        for secondary in self.plan.all(SecondaryVlan):
            vid = self.plan.get("segment", secondary.segment).vid
            primary[self.wiring.classes.of[secondary.vid]] = self.wiring.classes.of[vid or 0]
        known = np.isin(np.arange(count), self.tag[: len(self.segments)])
        primary[self.wiring.classes.plain :] = primary[self.wiring.classes.base[self.wiring.classes.plain :]]
        arrived = primary[np.maximum(landed, 0)]
        untagged = (wanted == 0) & (context == 0) & ((landed <= 0) | ~known[np.maximum(landed, 0)])
        right = ((wanted > 0) & (landed >= 0) & (arrived == wanted)) | untagged
        vni = self.vni[stand]
        right = np.where(vni > 0, self.vni_of[np.maximum(segment, 0)] == vni, right)
        return Rows(
            stand=stand,
            way=way,
            team=team,
            member=member,
            pair=pair,
            far_node=far,
            node=entered,
            mutual=mutual,
            open=opened.astype(bool),
            landed=landed,
            right=right & (segment >= 0) & (context >= 0),
            first=np.flatnonzero(way == 0),
        )

    def _beyond_unmanaged(self, landed: np.ndarray, entered: np.ndarray) -> None:
        """Untagged frames that pass a bridge without classifying them land on the VID that the next managed switch gives them."""
        component = self.domains.component[: self.wiring.crossing_count * self.count]
        unsaid = np.flatnonzero((landed == 0) & (entered >= 0))
        if not unsaid.size:
            return
        beyond = component[entered[unsaid]]
        vid = self.wiring.classes.base[np.arange(component.size) % self.count]
        tagged = np.flatnonzero(np.isin(component, beyond) & (vid > 0))
        # The least of several VIDs that leak into each other; the leak is found where it is.
        given = np.full(int(component.max()) + 1, self.count, dtype=np.int16)
        np.minimum.at(given, component[tagged], vid[tagged])
        given[given == self.count] = 0
        landed[unsaid] = given[beyond]

    @staticmethod
    def _enter(
        context: np.ndarray, pair: np.ndarray, far: np.ndarray, there_table: np.ndarray, back_table: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Where frames of these contexts get to over these pairings: far context, whether they come back alike, node."""
        inside = np.maximum(context, 0)
        index = np.maximum(pair, 0)
        there = np.where((pair >= 0) & (context >= 0), there_table[index, inside], -1).astype(np.int32)
        mutual = (there >= 0) & (back_table[index, np.maximum(there, 0)] == context)
        at_home = (pair == AT_HOME) & (context >= 0)
        entered = np.where(there >= 0, far + there, np.where(at_home, far + inside, -1))
        return there, mutual | at_home, entered

    def _groups(self, domains: Domains) -> np.ndarray:
        """int64[rows]: the component that a row is in, or a number of its own for each context that is in none.

        An overlay's rows have the group of the host port that carries it, counted apart for each VNI.
        """
        rows = self.rows
        local = self.bridge[rows.stand] * self.count + np.maximum(self.context[rows.stand], 0)
        inside = rows.mutual & (rows.node >= 0)
        component = domains.component[np.where(inside, rows.node, 0)] if domains.component.size else 0
        group: np.ndarray = np.where(inside, component, self.base + local)
        # A guest that tags its frames with the native VID of its port speaks and hears nothing: it is alone.
        group = np.where(self.columns.deaf[rows.stand], self.alone + rows.stand, group)
        group = group + self.vni[rows.stand] * self.scale
        for row in np.flatnonzero(self.columns.private[rows.stand]).tolist():
            if int(rows.node[row]) >= 0 and int(rows.pair[row]) != -1:
                group[row] = domains.component[int(rows.node[row])]
        return group

    def _hearing(self, row: int, domains: Domains) -> set[int]:
        """The groups whose frames a private stand hears over a row."""
        rows, stand = self.rows, self.stands[int(self.rows.stand[row])]
        pair, far = int(rows.pair[row]), int(rows.far_node[row])
        found = set()
        for context in stand.hears:
            node = -1
            if pair == AT_HOME:
                node = far + context
            elif pair >= 0:
                back = self.pairings.listed[pair].back
                coming = np.flatnonzero(back == context)
                found.update(domains.component[far + coming].tolist())
            if node >= 0:
                found.add(int(domains.component[node]))
            found.add(self.base + stand.bridge * self.count + context)
        return found

    def _reached_from(self, stand: int, group: int, domains: Domains) -> set[int]:
        """The groups in which a stand that speaks in a group is heard: its switch's, its own, and where that one's frames get to."""
        beside = self.base + int(self.bridge[stand]) * self.count + max(int(self.context[stand]), 0)
        return {beside, *(domains.hearers(group) if group in domains.one_way() else (group,))}

    def _routers(self) -> dict[int, list[tuple[str, int]]]:
        """For the stands of overlays that are carried over routers: each station, and its stand that is the gateway."""
        found: dict[int, list[tuple[str, int]]] = {}
        ways = self.wiring.ways_out
        for number in np.flatnonzero(self.vni > 0).tolist() if ways else ():
            for station, port in ways.get(self.stands[number].over, ()):
                place = self.wiring.place(port)
                if place is not None:
                    found.setdefault(number, []).append((station, self._number(place.stand)))
        return found

    def _over_routers(self, row: int, groups: np.ndarray) -> frozenset[tuple[int, str]]:
        """The routers that an overlay's host port reaches over a row, with its VNI."""
        stand = int(self.rows.stand[row])
        vni = int(self.vni[stand])
        own = int(groups[row]) - vni * self.scale
        gates = self.routers.get(stand, ())
        return frozenset((vni, station) for station, gate in gates if int(groups[self.rows.first[gate]]) == own)

    def _gateways(self) -> None:
        """Who bears each gateway address of each segment, by segment number; and the addresses that nobody bears."""
        self.gateways: dict[int, list[Gate]] = {}
        self.unborne: dict[int, list[str]] = {}
        gated = [(n, id) for n, id in enumerate(self.segments) if self.plan.get("segment", id).gateways]
        for n, id in gated:
            ways_in = self.plan.where("way_in", "segment", id)
            for address in self.plan.get("segment", id).gateways:
                gate = self._gate(address, id, [self._entry(way.port, n) for way in ways_in])
                if gate is None:
                    self.unborne.setdefault(n, []).append(address)
                else:
                    self.gateways.setdefault(n, []).append(gate)

    def _gate(self, address: str, segment: str | None, entries: list[int]) -> Gate | None:
        """Who bears an address for a segment (None: for whomever); None: nobody does.

        What is off or disconnected is reached by nobody.
        """
        awake: list[tuple[int, str]] = []
        idle: list[str] = []
        for record in sorted(self.wiring.bearers.get(address, ())):
            place = self.wiring.place(record)
            if place is None or (segment is not None and place.segment not in (None, segment)):
                continue
            if place.stand.judged and is_idle(self.plan, place.endpoint):
                idle.append(record)
            else:
                awake.append((self._number(place.stand), record))
        known = tuple(node for node in entries if node >= 0)
        return Gate(address, tuple(awake), tuple(idle), known) if awake or idle or known else None

    def _entry(self, port: str, segment: int) -> int:
        """The node in which what is behind a fabric port speaks on a segment's VID; -1 where the port doesn't carry it."""
        record = self.plan.get("fabric_port", port)
        rule = self.wiring.port_rules.get(port)
        vid = self.plan.get("segment", self.segments[segment]).vid
        if rule is None or vid is None:
            return -1
        context = int(self.wiring.classes.of[vid])
        return (
            self.wiring.bridge_of[record.switch].crossing_row * self.count + context if rule.out[context] >= 0 else -1
        )

    def _number(self, stand: Stand) -> int:
        return self.offsets[stand.block] + stand.index

    def _heard_by(self, row: int, group: int, domains: Domains) -> set[int]:
        return self._hearing(row, domains) if int(self.rows.stand[row]) in self.private else {group}
