"""The validation report: who lands where and how rules fare, with the evidence that `recheck.py` takes.

For each segment a tree of the fabric's switches, over links that always carry, from the place where those who are home are; and the closed set of places in the fabric that
frames of those at home get to, in any state.
"""

from __future__ import annotations

import json
import math
import random
from collections import Counter, deque
from collections.abc import Iterable, Iterator
from datetime import datetime
from html import escape
from itertools import combinations
from typing import Any

import numpy as np

from aptwire.above.outcomes import ANSWERED
from aptwire.above.ping import Ping, Pings
from aptwire.forward.parts import Link
from aptwire.judge.judgement import Judgement
from aptwire.judge.voices import EACH_STATE, Voices, voices
from aptwire.judge.why import HOME
from aptwire.paper.handover import STYLE, counts_table, landing_table, rules_table, section
from aptwire.plan.filters import PING, Packet
from aptwire.plan.sentences import Reach, read
from aptwire.recheck import FORMAT, VERSION, digest
from aptwire.rules.answer import HOLDS
from aptwire.rules.asking import asked

MOST_PINGS, MOST_PAIRS = 12, 100_000
"""So many pings are told of a rule, of one that speaks of fewer than so many."""


def validation(judgement: Judgement, made: datetime, proved: Iterable[Any] = ()) -> dict[str, Any]:
    """The report as it stands in a file; `made` says when, and `proved` what the kernel was asked, as the bench tells it."""
    plan, verdicts = judgement.plan, judgement.verdicts()
    evidence = _Evidence(judgement)
    return {
        "format": FORMAT,
        "version": VERSION,
        "plan": {"name": plan.name, "digest": digest(plan)},
        "made": made.isoformat(timespec="seconds"),
        "counts": judgement.counts(),
        "endpoints": [{"id": id, "verdict": verdicts[id]} for id in sorted(verdicts)],
        "segments": list(evidence.segments()),
        "rules": [
            {"text": rule.text, "outcome": answer.outcome, "why": answer.text}
            for rule, answer in asked(judgement).rules()
        ],
        "pings": list(_pings(judgement)),
        "proved": list(proved),
    }


def _pings(judgement: Judgement) -> Iterator[dict[str, Any]]:
    """For each rule that holds of who reaches whom, some of the pings on which it rests, hop by hop."""
    look, asks = asked(judgement), Pings(judgement)
    for rule, answer in look.rules():
        sentence = read(rule.text)
        if not isinstance(sentence, Reach) or answer.outcome != HOLDS:
            continue
        ends = [[unit.id for unit in look.look.meaning.whom(side).units] for side in (sentence.a, sentence.b)]
        pairs = [(a, b) for a in ends[0] for b in ends[1] if a != b] if math.prod(map(len, ends)) < MOST_PAIRS else []
        packet = Packet(sentence.protocol, sentence.port) if sentence.protocol else PING
        for source, target in random.Random(rule.text).sample(pairs, min(MOST_PINGS, len(pairs))):
            evidence = hops_of(asks.ask(source, target, packet=packet), packet)
            if evidence:
                yield {"rule": rule.text, "from": source, "to": target, **evidence}


def hops_of(found: Ping, packet: Packet = PING) -> dict[str, Any]:
    """An answered ping's hops there and back: by which interface, over which next hop's address, to whose; empty where it isn't answered, goes nowhere, or is
    translated inwards, which the checker doesn't follow."""
    if found.outcome != ANSWERED or len(found.ways) != 2 or found.ways[0].turned:
        return {}
    there, back = ([[leg.out, leg.address, leg.to] for leg in way.legs] for way in found.ways)
    return {"on": str(packet), "there": there, "back": back}


class _Evidence:
    """Trees and closed sets of a judged plan."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.wiring = judgement, judgement.wiring
        self.voices: Voices = voices(judgement)
        self.count = self.wiring.classes.count
        self._order: dict[int, tuple[np.ndarray, np.ndarray]] = {}
        self.bridges = {bridge.crossing_row: bridge for bridge in self.wiring.bridges if bridge.crossing_row >= 0}

    def segments(self) -> Iterator[dict[str, Any]]:
        """The evidence of each segment on which somebody is home."""
        wiring, status = self.wiring, self.judgement.status
        number = self.judgement.landing.number
        at_home: dict[str, list[Any]] = {}
        # Who bears the gateway may be home where those on his stand aren't.
        alone = {record for record, (told, _) in self.judgement.own.items() if told == HOME}
        for block in wiring.blocks.values():
            for stand in block.stands:
                home = status[number(stand)] == HOME or not alone.isdisjoint(stand.records)
                if stand.segment is not None and stand.context >= 0 and home:
                    at_home.setdefault(stand.segment, []).append(stand)
        for id in sorted(at_home):
            segment = self.judgement.plan.get("segment", id)
            judged = [stand for stand in at_home[id] if stand.judged]
            tree = self._tree(judged, segment.vid) if segment.vid and judged else {}
            yield {"id": id, "tree": tree, "closed": self._closed(at_home[id])}

    def _tree(self, stands: list[Any], vid: int) -> dict[str, str | None]:
        """From where a stand's frames enter the fabric: each switch that is reached on the VID, with the cable that leads back."""
        wiring, landing = self.wiring, self.judgement.landing
        context = int(wiring.classes.of[vid])
        # On a secondary VLAN one enters where the primary one is.
        seconds = wiring.plan.where("secondary_vlan", "segment", stands[0].segment)
        entered = {context, *(int(wiring.classes.of[second.vid]) for second in seconds)}
        bridges = wiring.bridges
        nodes = (int(landing.rows.node[landing.first[landing.number(stand)]]) for stand in stands)
        starts = Counter(
            self.bridges[node // self.count].number for node in nodes if node >= 0 and node % self.count in entered
        )
        tree: dict[str, str | None] = {}
        waiting: deque[tuple[int, str | None]] = deque((bridge, None) for bridge, _ in starts.most_common(1))
        if starts and bridges[waiting[0][0]].id not in wiring.plan.of("fabric_switch"):
            # A NIC with virtual functions comes before the switch behind it.
            ends = (end for link in wiring.fabric.at.get(waiting[0][0], ()) for end in link.ends)
            waiting = deque([(end, None) for end in ends if bridges[end].id in wiring.plan.of("fabric_switch")][:1])
        while waiting:
            bridge, cable = waiting.popleft()
            id = bridges[bridge].id
            if id in tree or id not in wiring.plan.of("fabric_switch"):
                continue
            tree[id] = cable
            links = [link for link in wiring.fabric.at.get(bridge, ()) if self._passes(link, context)]
            for link in (*links, *self._of_lags(bridge, context)):
                waiting.append((link.ends[1 - link.side(bridge)], link.key))
        return tree

    def _passes(self, link: Link, context: int) -> bool:
        pairing = self.judgement.pairings(*link.rules)
        return link.cable is not None and bool(pairing.there[context] == context == pairing.back[context])

    def _of_lags(self, bridge: int, context: int) -> Iterator[Link]:
        """The links at a bridge that stand for LAGs whose cables differ, but not in a context: it passes whichever carries."""
        fabric, bridges = self.wiring.fabric, self.wiring.bridges
        for team in fabric.teams:
            links = [member.link for member in team.members if member.link is not None and not team.order]
            if not any(bridge in link.ends for link in links) or not all(self._passes(k, context) for k in links):
                continue
            # What comes to one of a pair has to get to the other.
            ends = sorted({end for link in links for end in link.ends})
            pairs = [pair for pair in combinations(ends, 2) if {bridges[end].id for end in pair} in fabric.pairs.peers]
            if all(any({*pair} == {*k.ends} and self._passes(k, context) for k in fabric.links) for pair in pairs):
                heads = (link for link in links if fabric.joint_of.get(link.cable or "") == link.key)
                yield from (link for link in heads if bridge in link.ends)

    def _closed(self, stands: list[Any]) -> dict[str, list[str]]:
        """The places that their frames get to, by VID."""
        said = frozenset[object]().union(*map(self.voices.says, stands))
        found: dict[int, set[str]] = {}
        for voice in said:
            if isinstance(voice, int) and voice >= 0:
                for node in self._inside(voice):
                    switch = self.bridges[node // self.count].id
                    if switch in self.wiring.plan.of("fabric_switch"):
                        vid = self.wiring.classes.vid(int(self.wiring.classes.base[node % self.count]))
                        found.setdefault(vid, set()).add(switch)
        return {str(vid): sorted(switches) for vid, switches in sorted(found.items())}

    def _inside(self, voice: int) -> list[int]:
        """The nodes of a component of a state."""
        state, component = divmod(voice, EACH_STATE)
        if state not in self._order:
            components = self.voices.states[state][1].component[: self.wiring.crossing_count * self.count]
            order = np.argsort(components, kind="stable")
            self._order[state] = order, components[order]
        order, values = self._order[state]
        first, last = np.searchsorted(values, [component, component + 1])
        return order[first:last].tolist()  # type: ignore[no-any-return]


def validation_html(judgement: Judgement, report: dict[str, Any]) -> Iterator[str]:
    """The report for people: how everybody stands, rules, landing, what was proved; the report itself is in it, for `recheck`."""
    name, made = escape(judgement.plan.name), report["made"].replace("T", " ")
    yield f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{name}: validation</title><style>{STYLE}</style></head><body>\n'
    yield f"<h1>{name}</h1>\n<p class='quiet'>Validation report of {escape(made)}.</p>\n"
    yield from section("How it stands", counts_table(judgement))
    yield from section("Rules", rules_table(judgement))
    yield from section("Where everything lands", landing_table(judgement))
    yield from section("Evidence", _said(report))
    yield from section("Proved in a kernel", _proved(report["proved"]))
    held = json.dumps(report, ensure_ascii=False).replace("</", "<\\/")
    yield f'<script type="application/json" id="evidence">{held}</script>\n</body></html>\n'


def _said(report: dict[str, Any]) -> Iterator[str]:
    trees = [one for one in report["segments"] if one["tree"]]
    yield (
        f"<p>This file holds, for {len(trees)} segments, the switches over which everybody at home there hears each other, and for {len(report['segments'])} the places in the fabric"
        f" that their frames never leave; and the hops of {len(report['pings'])} pings on which rules rest. <code>./run recheck PLAN REPORT</code> checks all of it with a checker that has nothing of the engine in it.</p>\n"
        f"<p class='quiet'>Plan: SHA-256 {report['plan']['digest']}</p>\n"
    )


def _proved(proved: list[Any]) -> Iterator[str]:
    if not proved:
        yield "<p>Nothing was asked of a kernel for this report.</p>\n"
    for one in proved:
        yield f"<p>{escape(str(one))}</p>\n"
