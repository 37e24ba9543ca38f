"""The engine against states that were never a plan: real ip and bridge, read as files, and every frame held against what is said of it.

APTWIRE_WILD=1000 ./run test bench makes as many; a normal run makes 30.
"""

from __future__ import annotations

import os
import unittest
from collections import Counter

from aptwire.formats.hosts import read_hosts
from aptwire.forward.compiling import compile_wiring
from aptwire.forward.frames import Frames
from aptwire.forward.learning import Learned
from aptwire.forward.parts import NOW, State
from aptwire.plan.names import endpoint_key
from aptwire_bench.kernel import Kernel

from tests.bench import wild

MANY = int(os.environ.get("APTWIRE_WILD", "30"))
FIRST = int(os.environ.get("APTWIRE_WILD_FIRST", "1"))
BATCH = 10


class WildTest(unittest.TestCase):
    def test_states_of_every_kind_are_heard_as_the_kernels_frames_were(self) -> None:
        tally: Counter[str] = Counter()
        with Kernel("1G") as kernel:
            for first in range(FIRST, FIRST + MANY, BATCH):
                seeds = range(first, min(first + BATCH, FIRST + MANY))
                fleets = [wild.make(seed, f"w{seed}") for seed in seeds]
                answer = kernel.run(wild.job_of(fleets))
                for seed, fleet in zip(seeds, fleets, strict=True):
                    with self.subTest(seed=seed):
                        self.check(fleet, fleets, answer, tally)
        print(f"and {tally['alike']} of {tally['unicasts']} unicasts, {tally['received']} times received")
        print(f"wild states: {MANY}, {tally['agreed']} of {tally['asked']} broadcasts heard as the kernel heard them")
        self.assertGreater(tally["heard"], 10 * MANY)

    def check(self, fleet: wild.Fleet, fleets: list[wild.Fleet], answer: dict, tally: Counter[str]) -> None:
        """One fleet: each key in each phase, heard as the frames were."""
        files = wild.neighbours(fleet)
        for device in answer["read"]:
            if device["name"] in fleet.spaces:
                own = device["name"].removeprefix(fleet.name)
                files.update({f"{own}/{name}": text.encode() for name, text in device["files"].items()})
        plan, report = read_hosts(files, "wild")
        wiring = compile_wiring(plan)
        ids = {endpoint_key(plan, r): r.id for kind in ("adapter", "host_port") for r in plan.all(kind)}
        own = {ear.key for ear in fleet.ears if ear.own}
        asked = {ear.key for ear in fleet.ears}
        keys = {id: key for key, id in ids.items() if key in asked}
        partial = [n.text for n in report.notes if "stays unproven" in n.text]
        self.assertFalse(partial, "everything here can be kept")
        number = sum(len(e.tags) for f in fleets[: fleets.index(fleet)] for e in f.ears)
        heard = heard_in(fleet, fleets, answer)
        wrong = []
        for phase in range(1 + len(fleet.teams)):
            lost = fleet.teams[phase - 1] if phase else None
            host = lost[0].removeprefix(fleet.name) if lost else ""
            frames = Frames(wiring, State(lost=frozenset([f"{host}/{lost[1]}"])) if lost else NOW)
            at = number
            for ear in fleet.ears:
                for tags in ear.tags:
                    kernel = {k for k in heard.get(phase << 24 | at, ()) if not k.startswith(f"{ear.key}|")}
                    at += 1
                    said = frames.stacked(ids[ear.key], tags) if ids.get(ear.key) in frames.seats else frozenset()
                    engine = {
                        f"{keys[id]}|{'.'.join(map(str, out))}" for id, out in said if id != ids[ear.key] and id in keys
                    }
                    # The host itself takes what comes untagged to its interface.
                    kernel, engine = (
                        {k for k in keys if k.endswith("|") or k.split("|")[0] not in own} for keys in (kernel, engine)
                    )
                    tally["asked"] += 1
                    tally["heard"] += len(kernel)
                    tally["agreed"] += kernel == engine
                    if kernel != engine:
                        key = f"{ear.key}|{'.'.join(map(str, tags))}"
                        wrong.append(
                            f"{key} without {lost}: only engine {sorted(engine - kernel)}, only kernel {sorted(kernel - engine)}"
                        )
        wrong += self.unicast(fleet, fleets, answer, Frames(wiring), ids, tally)
        self.assertFalse(wrong, "\n".join(wrong[:6]) + f"\n{len(wrong)} in all")

    def unicast(
        self,
        fleet: wild.Fleet,
        fleets: list[wild.Fleet],
        answer: dict,
        frames: Frames,
        ids: dict[str, str],
        tally: Counter[str],
    ) -> list[str]:
        """Frames from guest to guest, once everybody has spoken; a host's own interfaces, and such that take no others' addresses, hear theirs alone."""
        number = sum(len(wild.wanted(f)) for f in fleets[: fleets.index(fleet)])
        heard = heard_in(fleet, fleets, answer)
        learned = Learned(frames)
        for ear in fleet.ears:
            for tags in ear.tags:
                if ids.get(ear.key) in frames.seats:
                    learned.learn(ids[ear.key], tags)
        keys = {id: key for key, id in ids.items()}
        guests = {ear.key for ear in fleet.ears if not ear.own and not ear.key.partition("/")[2].startswith("m")}
        wrong = []
        for ear, tags, other in wild.wanted(fleet):
            kernel, at = heard.get(wild.UNICAST << 24 | number, set()), number
            number += 1
            if not {ids.get(ear.key), ids.get(other.key)} <= frames.seats.keys() or not learned.certain(ids[other.key]):
                continue
            said = learned.reached(ids[ear.key], tags, ids[other.key])
            engine = {f"{keys[id]}|{'.'.join(map(str, out))}" for id, out in said}
            kernel, engine = (
                {k for k in found if k.split("|")[0] in guests | {other.key} and k.split("|")[0] != ear.key}
                for found in (kernel, engine)
            )
            tally["unicasts"] += 1
            tally["received"] += len(kernel)
            tally["alike"] += kernel == engine
            if kernel != engine:
                key = f"{ear.key}|{'.'.join(map(str, tags))} to {other.key}"
                wrong.append(
                    f"{key}: only engine {sorted(engine - kernel)}, only kernel {sorted(kernel - engine)} ({at})"
                )
        return wrong


def heard_in(fleet: wild.Fleet, fleets: list[wild.Fleet], answer: dict) -> dict[int, set[str]]:
    """Who of a fleet heard each frame, by its number: keys with the tags with which it came out."""
    shift = sum(len(f.ears) for f in fleets[: fleets.index(fleet)])
    heard: dict[int, set[str]] = {}
    for question, ear, tag in answer["heard"]:
        if shift <= ear < shift + len(fleet.ears):
            heard.setdefault(question, set()).add(f"{fleet.ears[ear - shift].key}|{_spoken(tag)}")
    return heard


def _spoken(tag: int | None) -> str:
    """The tags of a frame as the agent tells them: twelve bits each, the outermost lowest."""
    found = []
    while tag:
        found.append(str(tag & 0xFFF))
        tag >>= 12
    return ".".join(found)


if __name__ == "__main__":
    unittest.main()
