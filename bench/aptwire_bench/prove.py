"""A plan put to the kernel: built, asked, compared."""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from aptwire.formats import pcap
from aptwire.forward.compiling import compile_wiring
from aptwire.forward.frames import LARGE_SIZE, Frames
from aptwire.plan.names import called
from aptwire.plan.plan import Plan

from aptwire_bench.advertising import Learnt, Listener, advertising_job, learnt, listening
from aptwire_bench.advertising import seats as listening_seats
from aptwire_bench.fit import Fitted, Left, fit
from aptwire_bench.kernel import BenchError, Kernel, Progress
from aptwire_bench.leasing import JOB, Asker, Given, askers, leasing_job, offered
from aptwire_bench.leasing import seats as leasing_seats
from aptwire_bench.questions import Paper, Question, Scope, Situation, after, examine, frame_of, once, state_of
from aptwire_bench.scene import Scene, build
from aptwire_bench.shrink import smallest
from aptwire_bench.trials import Burst, Trial, burst_frame, bursts, choose, trial_job

SETTLE = 1.3
"""Seconds after which every device knows which links are up: the kernel tells of it once a second."""


@dataclass(frozen=True)
class Difference:
    """A question to which the kernel gave another answer than the engine."""

    question: Question
    seen: frozenset[tuple[str, int | None]]

    @property
    def missing(self) -> frozenset[tuple[str, int | None]]:
        """Whom the engine names and the kernel doesn't."""
        return self.question.must - self.seen

    @property
    def extra(self) -> frozenset[tuple[str, int | None]]:
        """Whom the kernel reached and the engine doesn't name."""
        return self.seen - self.question.may


@dataclass(frozen=True)
class Overrun:
    """A burst of which another number of frames passed than its limit lets through."""

    burst: Burst
    passed: int


@dataclass(frozen=True)
class Misleased:
    """Who asked for a lease and was offered something else than the engine says."""

    asker: Asker
    offered: frozenset[Given]


@dataclass(frozen=True)
class Mistaught:
    """Who listened to advertisements and learnt something else than the engine says."""

    listener: Listener
    learnt: Learnt


@dataclass
class Report:
    """What came of a plan: how many questions were asked, agreed, differed, were not tried; seconds by part."""

    asked: int = 0
    agreed: int = 0
    untried: dict[str, int] = field(default_factory=dict)
    differences: list[Difference] = field(default_factory=list)
    left: tuple[Left, ...] = ()
    situations: list[str] = field(default_factory=list)
    times: dict[str, float] = field(default_factory=dict)
    stories: list[Story] = field(default_factory=list)
    failed: list[Trial | Overrun | Misleased | Mistaught] = field(default_factory=list)
    """Pings, leases, bursts and what was formed, where that came out otherwise."""
    askers: list[Asker] = field(default_factory=list)
    """Who asked for a lease."""
    listeners: list[Listener] = field(default_factory=list)
    """Who listened to advertisements."""

    @property
    def differed(self) -> int:
        """Frames, pings and leases that came out otherwise."""
        return len(self.differences) + len(self.failed)

    @property
    def questions(self) -> int:
        """All of them, tried or not."""
        return self.asked + sum(self.untried.values())

    def to_json(self, plan: Plan) -> dict[str, Any]:
        """For a program."""
        return {
            "questions": self.questions,
            "asked": self.asked,
            "agreed": self.agreed,
            "differed": self.differed,
            "not_tried": sum(self.untried.values()),
            "why_not_tried": [{"reason": why, "questions": n} for why, n in self.untried.items()],
            "not_built": [left.to_json() for left in self.left],
            "situations": self.situations,
            "differences": [
                *(say(plan, d) for d in self.differences[:100]),
                *(say_trial(plan, t) for t in self.failed),
            ],
            "stories": [
                {
                    "text": s.difference["text"],
                    "engine": s.engine,
                    "kernel": s.places,
                    "smallest": len(s.smallest),
                }
                for s in self.stories
            ],
            "seconds": {name: round(value, 2) for name, value in self.times.items()},
        }


def name_of(plan: Plan, seat: str) -> str:
    """A seat as people say it."""
    return called(plan, plan.find(seat))


def _told(plan: Plan, heard: frozenset[tuple[str, int | None]]) -> list[str]:
    return sorted(f"{name_of(plan, seat)}{'' if tag is None else f' tagged {tag}'}" for seat, tag in heard)


def say(plan: Plan, difference: Difference) -> dict[str, Any]:
    """A difference in words and ids."""
    q = difference.question
    tag = "untagged" if q.vid is None else "priority-tagged" if q.vid == 0 else f"tagged {q.vid}"
    to = {
        "broadcast": "to everybody",
        "unknown": "to an address that nobody has",
        "foreign": "from a foreign address",
        "offer": "with a DHCP server’s answer",
        "advert": "with a router advertisement",
        "large": f"of {LARGE_SIZE} bytes",
    }
    whom = to.get(q.frame) or f"to {name_of(plan, q.target)}"
    return {
        "number": q.number,
        "sender": q.sender,
        "vid": q.vid,
        "frame": q.frame,
        "target": q.target,
        "pulled": list(q.situation.pulled),
        "chosen": [[team.uplink, nic] for team, nic in q.situation.chosen],
        "text": f"A frame of {name_of(plan, q.sender)}, {tag}, {whom}; {q.situation.say(plan)}",
        "only_engine": _told(plan, difference.missing),
        "only_kernel": _told(plan, difference.extra),
    }


def say_trial(plan: Plan, trial: Trial | Overrun | Misleased | Mistaught) -> dict[str, Any]:
    """A ping, lease or burst that came out otherwise, in the form of a difference."""
    common = {"number": 0, "pulled": [], "chosen": []}
    if isinstance(trial, Overrun):
        burst = trial.burst
        told = [f"{called(plan, plan.find(burst.watch))}: {trial.passed} frames"]
        ends = {"sender": burst.sender, "vid": None, "frame": "burst", "target": burst.watch}
        return {**common, **ends, "text": burst.say(plan), "only_engine": [], "only_kernel": told}
    if isinstance(trial, Misleased):
        asker = trial.asker
        ends = {"sender": asker.record, "vid": None, "frame": "lease", "target": asker.record}
        only = [
            sorted(map(_offer, one - two))
            for one, two in ((asker.expected, trial.offered), (trial.offered, asker.expected))
        ]
        return {**common, **ends, "text": asker.say(plan), "only_engine": only[0], "only_kernel": only[1]}
    if isinstance(trial, Mistaught):
        listener = trial.listener
        ends = {"sender": listener.record, "vid": None, "frame": "advert", "target": listener.record}
        sides = (listener.expected, trial.learnt), (trial.learnt, listener.expected)
        only = [[*sorted(one[0] - two[0]), *sorted(one[1] - two[1])] for one, two in sides]
        return {**common, **ends, "text": listener.say(plan), "only_engine": only[0], "only_kernel": only[1]}
    told = [called(plan, plan.find(trial.target.record))]
    return {
        **common,
        "sender": trial.source.record,
        "vid": trial.source.vid,
        "frame": trial.what,
        "target": trial.target.record,
        "text": trial.say(plan),
        "only_engine": told if trial.expected else [],
        "only_kernel": [] if trial.expected else told,
    }


def _offer(given: Given) -> str:
    server, subnet, address, gateways = given
    return f"{server}: {address or f'some address in {subnet}'}, gateways {', '.join(gateways) or 'none'}"


@dataclass
class Case:
    """A plan made ready for the kernel."""

    plan: Plan
    fitted: Fitted
    scene: Scene
    paper: Paper
    trials: list[Trial] = field(default_factory=list)
    bursts: list[Burst] = field(default_factory=list)
    askers: list[Asker] = field(default_factory=list)
    listeners: list[Listener] = field(default_factory=list)
    first: int = 0
    """The number of its first question within the job."""

    def __post_init__(self) -> None:
        self.ears = {ear.seat: ear for ear in self.scene.ears}

    @staticmethod
    def of(plan: Plan, scope: Scope, prefix: str = "") -> Case:
        """Fit, build on paper, and ask."""
        case = Case.built(plan, scope, prefix)
        case.ask(scope)
        return case

    @staticmethod
    def built(plan: Plan, scope: Scope, prefix: str = "") -> Case:
        """Fit and build on paper; no frame is asked for yet."""
        fitted = fit(plan)
        frames = Frames(compile_wiring(fitted.plan))
        trials = choose(fitted.plan, frames, scope.trials, scope.seed)
        asking = askers(fitted.plan, scope.trials, scope.seed)
        hearing = listening(fitted.plan, scope.trials, scope.seed)
        stacks = {seat for trial in trials for seat in trial.seats}
        stacks |= {*leasing_seats(fitted.plan, asking), *listening_seats(fitted.plan, hearing)}
        scene = build(fitted.plan, prefix, stacks)
        limits = bursts(fitted.plan, frames, scene, scope.trials)
        return Case(plan, fitted, scene, Paper(), trials, limits, asking, hearing)

    def ask(self, scope: Scope, progress: Progress | None = None) -> None:
        """Write down the questions, each with the engine's answer."""
        self.paper = examine(self.plan, self.fitted, self.scene, scope, progress)

    @staticmethod
    def again(plan: Plan, like: Question, prefix: str = "") -> Case:
        """One question again, about a plan that may be smaller."""
        fitted = fit(plan)
        scene = build(fitted.plan, prefix)
        return Case(plan, fitted, scene, once(plan, fitted, scene, like))


def read_back(kernel: Kernel, plan: Plan) -> dict[str, bytes]:
    """A plan built, and read off the kernel as host states: files by device/file, with the LLDP that a daemon on each fabric
    switch sends to its neighbours."""
    fitted = fit(plan)
    stack = [p.id for p in fitted.plan.all("host_port") if p.addresses]
    scene = build(fitted.plan, "", stack)
    devices: list[list[Any]] = []
    speaking = {scene.space_of[record.id] for record in fitted.plan.all("fabric_switch")}
    hearing: dict[str, list[str]] = defaultdict(list)
    for one, other, *_ in scene.cables.values():
        for (space, device), (far, _) in ((one, other), (other, one)):
            if far in speaking:
                hearing[space].append(device)
    for kind in ("host", "fabric_switch"):
        for record in sorted(fitted.plan.all(kind), key=lambda r: r.id):
            space = scene.space_of[record.id]
            devices.append([space, record.name, space in speaking, sorted(hearing[space])])
    answer = kernel.run(job_of([Case(plan, fitted, scene, Paper([(Situation(), [])]))], read=devices))
    files: dict[str, bytes] = {}
    for device in answer["read"]:
        files.update({f"{device['name']}/{name}": text.encode() for name, text in device["files"].items()})
        for port, frames in device["lldp"].items():
            found = [(at, bytes.fromhex(text)) for at, text in frames]
            files[f"{device['name']}/{port}.lldp.pcap"] = pcap.write(found)
    return files


def job_of(cases: Sequence[Case], settle: float = SETTLE, read: Sequence[list[Any]] = ()) -> dict[str, Any]:
    """Several cases as one job: built side by side in one kernel, their situations in step."""
    return {**building(cases, settle, read), **asking(cases)}


def building(cases: Sequence[Case], settle: float = SETTLE, read: Sequence[list[Any]] = ()) -> dict[str, Any]:
    """The part of a job that needs no questions: what is built, pinged and read."""
    trials = [trial_job(trial, case.scene.stacks) for case in cases for trial in case.trials]
    leasing = [leasing_job(case.fitted.plan, case.askers, case.scene) for case in cases]
    adverts = [advertising_job(case.fitted.plan, case.listeners, case.scene) for case in cases]
    return {
        "scenes": [case.scene.to_json() for case in cases],
        "settle": settle,
        "read": list(read),
        "trials": trials,
        "leases": {name: [one for job in leasing for one in job[name]] for name in JOB},
        "adverts": {name: [one for job in adverts for one in job[name]] for name in ("sends", "listens")},
    }


def asking(cases: Sequence[Case]) -> dict[str, Any]:
    """The part of a job that is asked: frames situation by situation, and bursts."""
    ears = questions = 0
    numbers: list[dict[str, int]] = []
    for case in cases:
        case.first = questions
        numbers.append({seat: ears + i for i, seat in enumerate(case.ears)})
        ears += len(case.scene.ears)
        questions += sum(1 for _ in case.paper)
    phases = []
    for n in range(max(len(case.paper.phases) for case in cases)):
        phase: dict[str, Any] = {"down": [], "choose": [], "restart": [], "asks": []}
        for case, at in zip(cases, numbers, strict=True):
            if n < len(case.paper.phases):
                _situation(case, n, phase)
                phase["asks"] += [
                    [at[q.sender], frame_of(q, case.ears, case.first).hex()]
                    for q in case.paper.phases[n][1]
                    if not q.untried
                ]
        phases.append(phase)
    sent: list[dict[str, Any]] = []
    for case, at in zip(cases, numbers, strict=True):
        for burst in case.bursts:
            raw = burst_frame(case.ears[burst.sender].mac).hex()
            ends = {"from": at[burst.sender], "to": at[burst.watch]}
            sent.append({**ends, "limit": [burst.limit.space, burst.limit.line], "count": burst.count, "frame": raw})
    return {"phases": phases, "bursts": sent}


def _situation(case: Case, n: int, phase: dict[str, Any]) -> None:
    """What has to be done to a case's devices for its nth situation."""
    situation = case.paper.phases[n][0]
    before = case.paper.phases[n - 1][0] if n else Situation()
    phase["down"] += [end for id in situation.pulled for end in case.scene.cables.get(id, [])]
    chosen = dict(situation.chosen)
    if before.chosen:
        usual = {t.key: t.members[0].nic.id for t in compile_wiring(case.fitted.plan).all_teams() if t.usable}
        chosen = {**{team: usual[team] for team, _ in before.chosen}, **chosen}
    phase["choose"] += [case.scene.choices[nic] for nic in chosen.values()]
    ports = case.plan.of("fabric_port")
    moved = [case.plan.get("cable", id) for id in (*situation.pulled, *before.pulled)]
    if any(c.a in ports and c.b in ports for c in moved):
        phase["restart"] += case.scene.trees


def compare(cases: Sequence[Case], answer: dict[str, Any]) -> list[Report]:
    """The kernel's answers against the engine's, a report for each case."""
    ears = [ear.seat for case in cases for ear in case.scene.ears]
    seen: dict[int, set[tuple[str, int | None]]] = {}
    for number, ear, tag in answer["heard"]:
        # A priority tag says nothing of a VLAN, and counts as none (IEEE 802.1Q clause 6.9.1).
        seen.setdefault(number, set()).add((ears[ear], tag or None))
    reports = []
    reached, passed, leased, leased6, taught = (
        iter(answer[name]) for name in ("reached", "passed", "leased", "leased6", "learnt")
    )
    for case in cases:
        report = Report(left=case.fitted.left, times=answer["times"], askers=case.askers, listeners=case.listeners)
        report.situations = [s.say(case.plan) for s, _ in case.paper.phases]
        for q in case.paper:
            if q.untried:
                report.untried[q.untried] = report.untried.get(q.untried, 0) + 1
                continue
            report.asked += 1
            got = frozenset(seen.get(case.first + q.number, ()))
            if q.must <= got <= q.may:
                report.agreed += 1
            else:
                report.differences.append(Difference(q, got))
        for trial in case.trials:
            report.asked += 1
            if next(reached) == trial.expected:
                report.agreed += 1
            else:
                report.failed.append(trial)
        for asker in case.askers:
            report.asked += 1
            if (
                got_leases := offered(case.fitted.plan, asker, next(leased6 if asker.six else leased))
            ) == asker.expected:
                report.agreed += 1
            else:
                report.failed.append(Misleased(asker, got_leases))
        for listener in case.listeners:
            report.asked += 1
            if (got_prefixes := learnt(case.fitted.plan, next(taught))) == listener.expected:
                report.agreed += 1
            else:
                report.failed.append(Mistaught(listener, got_prefixes))
        for burst in case.bursts:
            report.asked += 1
            if burst.least <= (count := next(passed)) <= burst.most:
                report.agreed += 1
            else:
                report.failed.append(Overrun(burst, count))
        reports.append(report)
    return reports


@dataclass
class Story:
    """Both sides of a difference: where the engine takes the frame, where the kernel was seen to, and the least plan with it.

    `frames` are pcap files by "namespace-device"; `places` say the same in a line each, in the order of time.
    """

    difference: dict[str, Any]
    engine: list[str]
    places: list[str]
    frames: dict[str, bytes]
    smallest: Plan


def tell(kernel: Kernel, plan: Plan, difference: Difference) -> Story:
    """Cut the plan down, ask once more with ears at every device, and put both stories side by side."""
    like = difference.question
    small = cut_down(kernel, plan, like)
    case = Case.again(small, like)
    job = job_of([case])
    for phase in job["phases"]:
        phase["listen"] = True
    answer = kernel.run(job)
    names = {space: _space_name(small, record) for record, space in case.scene.space_of.items()}
    frames: dict[str, list[tuple[float, bytes]]] = {}
    places: list[tuple[float, str]] = []
    for space, device, leaves, at, text in answer["seen"]:
        raw = bytes.fromhex(text)
        frames.setdefault(f"{names[space]}-{device}", []).append((at, raw))
        tag = f"tagged {int.from_bytes(raw[14:16], 'big') & 0xFFF}" if raw[12:14] == b"\x81\x00" else "untagged"
        places.append((at, f"{'leaves' if leaves else 'enters'} at {device} of {names[space]}, {tag}"))
    wiring = compile_wiring(after(small, like.situation))
    engine = Frames(wiring, state_of(like.situation)).story(like.sender, like.vid)
    packed = {name: pcap.write(sorted(found)) for name, found in frames.items()}
    return Story(say(plan, difference), engine, [text for _, text in sorted(places)], packed, small)


def _space_name(plan: Plan, record: str) -> str:
    found = plan.find(record)
    return str(getattr(found, "name", getattr(found, "site", "ears"))) if found is not None else "ears"


def cut_down(kernel: Kernel, plan: Plan, like: Question) -> Plan:
    """The smallest plan found about which engine and kernel still differ in this question."""

    def differ(plans: list[Plan]) -> list[bool]:
        cases = [Case.again(small, like, f"c{n}.") for n, small in enumerate(plans)]
        return [bool(report.differences) for report in compare(cases, kernel.run(job_of(cases)))]

    return smallest(plan, differ)


STORIES = 3


def prove(plan: Plan, scope: Scope = Scope(), progress: Progress | None = None, stories: int = STORIES) -> Report:  # noqa: B008
    """Build a plan in a fresh kernel, ask it, compare; the first differences are told whole.  BenchError where that can't be done."""
    began = time.monotonic()
    if progress is not None:
        progress("starting", 0, 1)
    case = Case.built(plan, scope)
    ready = time.monotonic()
    written = 0.0

    def asks() -> dict[str, Any]:
        nonlocal written
        start = time.monotonic()
        case.ask(scope, progress)
        made = asking([case])
        written = time.monotonic() - start
        return made

    # A namespace takes some 0.3 MB, a pair of devices some 50 kB; cut-down plans are tried side by side.
    size = 640 + len(case.scene.spaces) + len(case.scene.wires) // 4
    with Kernel(f"{size}M", progress) as kernel:
        booted = time.monotonic()
        # The kernel builds while the questions are written.
        (report,) = compare([case], kernel.run(building([case]), asks))
        report.stories = [tell(kernel, plan, d) for d in _apart(report.differences)[:stories]]
    done = time.monotonic()
    report.times = {
        "on paper": ready - began,
        "boot": booted - ready,
        "questions": written,
        **report.times,
        "together": done - began,
    }
    return report


def _apart(differences: list[Difference]) -> list[Difference]:
    """One difference for each sender and situation: the others mostly say the same."""
    return list({(d.question.sender, d.question.situation): d for d in reversed(differences)}.values())[::-1]


__all__ = ["BenchError", "Case", "Difference", "Report", "Scope", "Situation", "compare", "job_of", "prove", "say"]
