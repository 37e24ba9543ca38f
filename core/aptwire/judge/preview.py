"""What an edit would change: verdicts before and after, nothing saved."""

from __future__ import annotations

from collections.abc import Set
from dataclasses import dataclass

import numpy as np

from aptwire.forward.wiring import Block
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import rejudge
from aptwire.judge.why import VERDICTS, alike
from aptwire.plan.collecting import no_collecting
from aptwire.plan.edits import Edit, apply_edit, touched
from aptwire.plan.plan import Plan


@dataclass(frozen=True)
class Move:
    """An endpoint whose verdict changes; None where it isn't there before or after."""

    endpoint: str
    before: str | None
    after: str | None

    @property
    def worse(self) -> bool:
        """Whether the verdict is graver than before; what is new, or gone, fares neither better nor worse."""
        return bool(self.before and self.after) and VERDICTS.index(self.after or "") > VERDICTS.index(self.before or "")

    def to_json(self) -> dict[str, str | None]:
        """The move for a program."""
        return {"endpoint": self.endpoint, "before": self.before, "after": self.after}


@dataclass(frozen=True)
class Preview:
    """The plan after an edit, its judgement, the inverse edit, and every endpoint whose verdict moves."""

    plan: Plan
    judgement: Judgement
    inverse: Edit
    moves: tuple[Move, ...]


def preview(before: Judgement, edit: Edit) -> Preview:
    """Apply an edit to a judged plan and compare; PlanError if the edit can't be applied."""
    with no_collecting():
        plan, inverse = apply_edit(before.plan, edit)
        after = rejudge(before, plan, touched(edit))
        return Preview(plan, after, inverse, moves(before, after))


def shut_down(before: Plan, after: Plan, edit: Edit) -> list[str]:
    """The running guests, by id, that an edit plugs an adapter into or out of although it may not be done while they run."""
    found: set[str] = set()
    for operation in edit:
        if operation.kind == "adapter":
            id = operation.id
            pair = [plan.of("adapter").get(id) for plan in (before, after)]
            plugged = {(a.guest, a.type, a.function_of) if a is not None else None for a in pair}
            if len(plugged) > 1:
                found.update(a.guest for a in pair if a is not None and not a.hot_plug)
    both = (before.of("guest"), after.of("guest"))
    return sorted(id for id in found if all(guests[id].running if id in guests else False for guests in both))


def moves(before: Judgement, after: Judgement) -> tuple[Move, ...]:
    """The endpoints whose verdict differs between two judgements, by id.  Blocks of which nothing differs are passed over, and in the others the
    stands that are alike."""
    old: dict[str, int] = {}
    new: dict[str, int] = {}
    for key in apart(before, after) | apart(after, before):
        pair = before.wiring.blocks.get(key), after.wiring.blocks.get(key)
        alike = _alike(before, pair[0], after, pair[1]) if pair[0] is not None and pair[1] is not None else set()
        for judgement, block, made in ((before, pair[0], old), (after, pair[1], new)):
            if block is not None:
                made.update(
                    judgement.block_verdicts(block, [stand for stand in block.stands if id(stand) not in alike])
                )
    return tuple(
        Move(endpoint, _word(old.get(endpoint)), _word(new.get(endpoint)))
        for endpoint in sorted(old.keys() | new.keys())
        if old.get(endpoint) != new.get(endpoint)
    )


def _word(verdict: int | None) -> str | None:
    return None if verdict is None else VERDICTS[verdict]


def _alike(before: Judgement, one: Block, after: Judgement, two: Block) -> set[int]:
    """The stands (by `id`), of a block in two judgements, with the very same records and verdict in both; of a record with something of its own in
    either nothing is said."""
    own = before.own.keys() | after.own.keys()
    own |= {record for block in (one, two) for places in block.several.values() for record in places}
    found: set[int] = set()
    for stand in two.stands:
        was = one.stand_of.get(stand.records[0])
        if (
            was is not None
            and (was is stand or was.records == stand.records)
            and was.judged == stand.judged
            and (not stand.judged or before.stand_verdict(was)[0] == after.stand_verdict(stand)[0])
            and (not own or own.isdisjoint(stand.records))
        ):
            found.update((id(was), id(stand)))
    return found


def apart(judgement: Judgement, other: Judgement) -> Set[str]:
    """The keys of the blocks of one judgement that may stand differently in the other: verdicts, landings, states."""
    for one, two in ((judgement, other), (other, judgement)):
        if one.since is not None and one.since.base is two.token:
            return one.since.changes.apart & judgement.wiring.blocks.keys()
    found = judgement.singly_apart(other)
    blocks, others = judgement.wiring.blocks, other.wiring.blocks
    common = [key for key, block in blocks.items() if others.get(key) is block]
    found.update(blocks.keys() - set(common))
    sizes = np.array([len(blocks[key].stands) for key in common], dtype=np.int64)
    before = np.cumsum(sizes) - sizes
    mine, theirs = (np.arange(sizes.sum()) + np.repeat(_starts(j, common) - before, sizes) for j in (judgement, other))
    same = judgement.status[mine] == other.status[theirs]
    same &= judgement.lands[mine] == other.lands[theirs]
    found.update(judgement.stands[n].block for n in mine[~same].tolist())
    for stand in judgement.causes.keys() | other.causes.keys():
        if not alike(judgement.causes.get(stand), other.causes.get(stand)):
            found.add(stand.block)
    return found & blocks.keys()


def _starts(judgement: Judgement, keys: list[str]) -> np.ndarray:
    """int64[keys]: the number of the first stand of each block."""
    gathered = judgement.landing.gathered
    return gathered.at[[gathered.place_of[key] for key in keys], 0]
