"""What the bench asks: frames, from whom, with which tag, in which state; and the engine's answer to each."""

from __future__ import annotations

import random
import struct
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.frames import (
    ADVERT,
    BROADCAST,
    FOREIGN,
    LARGE,
    LARGE_SIZE,
    OFFER,
    UNICAST,
    UNKNOWN,
    Frames,
    Heard,
)
from aptwire.forward.parts import NOW, MemberKey, State, TeamKey
from aptwire.plan.edits import Drop, Operation, Patch, apply_edit
from aptwire.plan.names import called
from aptwire.plan.plan import Plan

from aptwire_bench.fit import Fitted, looping
from aptwire_bench.kernel import Progress
from aptwire_bench.scene import Ear, Scene

Asked = tuple[str, int | None, str, str]
"""(sender, tag, frame, target)"""
EVERYBODY = "ff:ff:ff:ff:ff:ff"
ALL_NODES = "33:33:00:00:00:01"
MARK = b"APTW"
NOBODY, STRANGER = "02:a7:ff:00:00:01", "02:a7:ff:00:00:02"


@dataclass(frozen=True)
class Situation:
    """A state of the plan in which questions are asked: cables pulled, and members that teams are told to send over."""

    pulled: tuple[str, ...] = ()
    chosen: tuple[tuple[TeamKey, str], ...] = ()
    """(team, NIC)"""

    def say(self, plan: Plan) -> str:
        """In words."""
        parts = [f"{c} pulled" for c in self.pulled]
        parts += [f"over {called(plan, plan.find(nic))}" for _, nic in self.chosen]
        return ", ".join(parts) or "as it is"


@dataclass(frozen=True)
class Question:
    """A frame: who sends it, untagged (None), priority-tagged (0) or with a VID, to whom.

    `must` receive it, `may` receive it; `untried` says why it isn't put to the kernel (empty: it is).
    """

    number: int
    situation: Situation
    sender: str
    vid: int | None
    frame: str
    target: str
    must: Heard
    may: Heard
    untried: str = ""


@dataclass
class Paper:
    """All questions about a plan, by situation."""

    phases: list[tuple[Situation, list[Question]]] = field(default_factory=list)

    def __iter__(self) -> Iterator[Question]:
        for _, questions in self.phases:
            yield from questions


@dataclass(frozen=True)
class Scope:
    """How much is asked: senders beside one of each kind, tags of each sender, cables pulled (`cables` names those itself), pings and leases."""

    sample: int = 40
    tags: int = 8
    pulls: int = 4
    cables: tuple[str, ...] = ()
    seed: int = 1
    trials: int = 24


def after(plan: Plan, situation: Situation) -> Plan:
    """The plan as it stands in a situation: a NIC without its cable has no link."""
    edit: list[Operation] = []
    for id in situation.pulled:
        cable = plan.of("cable").get(id)
        if cable is None:
            continue
        ends = [end for end in (cable.a, cable.b) if end in plan.of("nic")]
        edit += [Patch("nic", end, {"link": "down"}) for end in ends] or [Drop("cable", id)]
    return apply_edit(plan, tuple(edit))[0] if edit else plan


def state_of(situation: Situation) -> State:
    """What the engine calls it."""
    return State({team: MemberKey(nic) for team, nic in situation.chosen}) if situation.chosen else NOW


def situations(fitted: Fitted, scene: Scene, scope: Scope) -> list[Situation]:
    """The plan as it is; other members of teams that don't say which one carries; cables pulled."""
    plan = fitted.plan
    found = [Situation()]
    dice = random.Random(scope.seed)
    teams = list(compile_wiring(plan).all_teams())
    for team in teams:
        if team.mode == "pinned":
            members = [m.nic.id for m in team.members[1 : team.usable] if m.nic.id in scene.choices]
            found += [Situation(chosen=((team.key, nic),)) for nic in members]
    if scope.cables:
        wanted = list(scope.cables)
    else:
        # What a failure changes most: the cables that carry, and those between switches.
        carrying = {t.members[0].nic.id for t in teams if t.usable > 1}
        ranked = [
            c.id
            for c in sorted(plan.all("cable"), key=lambda c: c.id)
            if c.a in carrying or c.b in carrying or (c.a in plan.of("fabric_port") and c.b in plan.of("fabric_port"))
        ]
        wanted = dice.sample(ranked, min(scope.pulls, len(ranked)))
    found += [Situation(pulled=(id,)) for id in wanted]
    return [s for s in found if s == Situation() or not looping(compile_wiring(after(plan, s)), state_of(s))]


def once(plan: Plan, fitted: Fitted, scene: Scene, like: Question) -> Paper:
    """One question again, about a plan that may be smaller; no question if nobody is left to ask."""
    situation = Situation(
        tuple(c for c in like.situation.pulled if c in scene.cables),
        tuple((t, n) for t, n in like.situation.chosen if n in scene.choices),
    )
    if looping(compile_wiring(after(fitted.plan, situation)), state_of(situation)):
        return Paper([(situation, [])])
    return paper(plan, fitted, scene, [situation], lambda _: [(like.sender, like.vid, like.frame, like.target)])


def examine(plan: Plan, fitted: Fitted, scene: Scene, scope: Scope, progress: Progress | None = None) -> Paper:
    """The questions about a plan."""
    dice = random.Random(scope.seed)

    def choose(frames: Frames) -> Iterator[Asked]:
        return _asked(frames, {ear.seat: ear for ear in scene.ears}, scene, scope, dice)

    return paper(plan, fitted, scene, situations(fitted, scene, scope), choose, progress)


def paper(
    plan: Plan,
    fitted: Fitted,
    scene: Scene,
    found: list[Situation],
    asked: Callable[[Frames], Iterable[Asked]],
    progress: Progress | None = None,
) -> Paper:
    """What is asked in some situations, each question with the engine's answer."""
    made = Paper()
    number = 0
    why = "; ".join(dict.fromkeys(left.reason for left in fitted.left)) or "the kernel can’t express the plan"
    ears = {ear.seat: ear for ear in scene.ears}
    for situation in found:
        state = state_of(situation)
        built = Frames(compile_wiring(after(fitted.plan, situation)), state)
        whole = built if not fitted.left else Frames(compile_wiring(after(plan, situation)), state)
        questions: list[Question] = []
        for sender, vid, frame, target in asked(whole):
            if sender not in whole.seats or (target and target not in ears):
                continue
            must, may = whole.heard(sender, vid, frame, target), whole.may(sender, vid, frame, target)
            untried = ""
            if sender not in ears:
                untried = f"{sender} is not built: {why}"
            elif whole is not built and (
                sender not in built.seats
                or (built.heard(sender, vid, frame, target), built.may(sender, vid, frame, target)) != (must, may)
            ):
                untried = why
            questions.append(Question(number, situation, sender, vid, frame, target, must, may, untried))
            number += 1
            if progress is not None and number % 200 == 0:
                progress("questions", len(made.phases) + 1, len(found))
        made.phases.append((situation, questions))
    return made


def _asked(frames: Frames, ears: dict[str, Ear], scene: Scene, scope: Scope, dice: random.Random) -> Iterator[Asked]:
    """One sender of each kind that the engine calls alike, and a sample of the others."""
    alike: dict[tuple[object, ...], list[str]] = {}
    for seat in frames.seats.values():
        key = (seat.bridge, seat.rule.number, seat.order, seat.over, seat.vni, seat.kind, seat.size, *seat.guards)
        alike.setdefault(key, []).append(seat.id)
    first = [ids[0] for ids in alike.values()]
    rest = sorted(set(frames.seats) - set(first))
    listed = set(scene.known)
    shared: dict[str, int] = {}
    for ear in ears.values():
        shared[ear.mac] = shared.get(ear.mac, 0) + 1
    for sender in sorted([*first, *dice.sample(rest, min(scope.sample, len(rest)))]):
        seat = frames.seats[sender]
        classes = frames.wiring.classes
        passing = [v for v in sorted(listed) if seat.rule.into[classes.of[v]] >= 0 and not seat.vni]
        foreign = sorted(listed - set(passing))
        tags: list[int | None] = [None]
        # The hypervisor's own stack puts no tags on what leaves a host port.
        if seat.kind != "host_port":
            tags += [0, scene.stray, *dice.sample(passing, min(scope.tags, len(passing)))]
            tags += dice.sample(foreign, min(2, len(foreign)))
        if seat.kind == "adapter":
            # The tag that no standard lets through; a cable into an unmanaged switch would carry it all the same.
            tags.append(4095)
        for vid in tags:
            yield sender, vid, BROADCAST, ""
        some = [None, *passing[:1]]
        for vid in some:
            yield sender, vid, UNKNOWN, ""
        for frame in (FOREIGN, OFFER, ADVERT):
            for vid in some:
                yield sender, vid, frame, ""
        yield sender, None, LARGE, ""
        for vid in some:
            heard = sorted({id for id, _ in frames.heard(sender, vid)} & set(ears) - {sender})
            others = sorted(set(ears) - set(heard) - {sender})
            for target in [*dice.sample(heard, min(2, len(heard))), *dice.sample(others, min(1, len(others)))]:
                if shared[ears[target].mac] == 1 and target in frames.seats:
                    yield sender, vid, UNICAST, target


def frame_of(question: Question, ears: dict[str, Ear], first: int = 0) -> bytes:
    """The bytes of a question's frame, at least 60 of them (IEEE 802.3 clause 3.2.8 without the FCS); it bears the question's
    number counted from `first`."""
    to = {UNKNOWN: NOBODY, ADVERT: ALL_NODES}.get(question.frame, EVERYBODY)
    target = ears[question.target].mac if question.frame == UNICAST else to
    source = STRANGER if question.frame == FOREIGN else ears[question.sender].mac
    made = bytes.fromhex(target.replace(":", "") + source.replace(":", ""))
    if question.vid is not None:
        made += b"\x81\x00" + question.vid.to_bytes(2, "big")
    mark = MARK + (first + question.number).to_bytes(4, "big")
    if question.frame == OFFER:
        made += _offer(mark)
    elif question.frame == ADVERT:
        made += _advert(mark)
    else:
        made += b"\x88\xb5" + mark
    return made.ljust(14 + LARGE_SIZE if question.frame == LARGE else 64, b"\0")


def _offer(mark: bytes) -> bytes:
    """What a DHCP server sends: an IPv4 packet (RFC 791) of UDP from port 67 to 68."""
    head: bytes = struct.pack("!BBHHHBBH", 0x45, 0, 28 + len(mark), 0, 0, 64, 17, 0) + bytes(4) + b"\xff" * 4
    total = sum(struct.unpack("!10H", head))
    check = ~(total + (total >> 16)) & 0xFFFF
    head = head[:10] + check.to_bytes(2, "big") + head[12:]
    udp: bytes = struct.pack("!HHHH", 67, 68, 8 + len(mark), 0)
    return b"\x08\x00" + head + udp + mark


def _advert(mark: bytes) -> bytes:
    """A router advertisement (RFC 4861 clause 4.2) in an IPv6 packet."""
    body: bytes = struct.pack("!BBHBBHII", 134, 0, 0, 64, 0, 0, 0, 0) + mark
    head: bytes = struct.pack("!IHBB", 6 << 28, len(body), 58, 255)
    return (
        b"\x86\xdd" + head + bytes.fromhex("fe80" + "00" * 13 + "01") + bytes.fromhex("ff02" + "00" * 13 + "01") + body
    )
