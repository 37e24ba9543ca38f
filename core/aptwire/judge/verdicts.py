"""The verdict of every endpoint, stage by stage: from nothing, or after an edit what it touched.

A *stand* is what no frame can tell apart: the same port of the same bridge, the same tag, belonging on the same
segment.  A *way* is a member of its switch's uplink over which it may get out.  Two stands meet in a state when their ways
lead into one component of the fabric (or they share a context of one switch).  States are today's and each single
team carried by another member, which is enough: choices at different teams are independent, so a difference
shows as soon as one team differs.

Each stage is a function of the ones before: `gathered`, `landing`, `gates`, `states`, `meeting`, `singles`.  Segments are judged by themselves, so
after an edit those alone are judged of which a stand, a way, a gateway or the domain that it is in differs from before.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Mapping
from dataclasses import replace

import numpy as np

from aptwire.forward.compiling import compile_wiring, rewire
from aptwire.forward.domains import Pairings, solve, solve_again
from aptwire.forward.parts import Stand
from aptwire.forward.wiring import Block, Wiring
from aptwire.judge.answers import Answers
from aptwire.judge.changes import UNKNOWN_CHANGES, Changes, changed_ways, in_words
from aptwire.judge.exact import Exact, in_doubt
from aptwire.judge.facts import End, facts_of, function_ends
from aptwire.judge.gates import Gates, find_gates
from aptwire.judge.gathered import Patch, gather, patch
from aptwire.judge.getting import for_its_address, with_addresses
from aptwire.judge.intent import Intent
from aptwire.judge.judgement import Judgement, Known, Since
from aptwire.judge.kept import Kept
from aptwire.judge.landing import ALONE, EACH_VNI, Landing, Tags, land, land_again
from aptwire.judge.meeting import Presence, meeting, overlay, presence, presence_again, spoken
from aptwire.judge.singles import Own, Singles
from aptwire.judge.sizes import Misfit, Misfits, may_differ
from aptwire.judge.states import StandVerdicts, judge_states
from aptwire.judge.steady import Standing, few, judge_few, standing, together
from aptwire.judge.why import (
    ASTRAY,
    CUT_OFF,
    GONE,
    HOME,
    NO_BEARER,
    STRANDED,
    TOO_LARGE,
    UNPROVEN,
    Cause,
    alike,
)
from aptwire.plan.collecting import no_collecting
from aptwire.plan.edits import Edit, apply_edit, touched
from aptwire.plan.kinds import ABOUT, BESIDE, UNSEEN, WayIn, reads_but
from aptwire.plan.plan import Plan


def judge(plan: Plan) -> Judgement:
    """Every verdict of a plan."""
    with no_collecting():
        return _from_nothing(compile_wiring(plan))


def judged_after(before: Judgement, edit: Edit) -> Judgement:
    """Every verdict once an edit is made of the judged plan; PlanError where it can't be."""
    return rejudge(before, apply_edit(before.plan, edit)[0], touched(edit))


def rejudge(before: Judgement, plan: Plan, touched: Iterable[tuple[str, str]]) -> Judgement:
    """Every verdict after an edit that touched these records (kind, id), from the judgement before it, which stays as it was."""
    with no_collecting():
        old, keys = before.landing, list(touched)
        wiring = rewire(old.wiring, plan, [key for key in keys if _seen(old.wiring.plan, plan, *key)])
        if wiring.book is not old.wiring.book:
            return _from_nothing(wiring)
        if wiring.classes is not old.wiring.classes:
            old.pairings.grown(old.wiring.classes, wiring.classes)
        domains = solve_again(old.domains, old.wiring, wiring, old.pairings)
        intent = Intent.of(plan, old.intent)
        tags = Tags.of(wiring, intent, old.tags)
        same = intent.subnets is old.intent.subnets and intent.gateways is old.intent.gateways
        patched = patch(old.gathered, wiring, old.pairings, intent, wiring.changed) if same else None
        if patched is None:
            gathered = gather(wiring, old.pairings, intent)
            landing = land(wiring, old.pairings, domains, intent, gathered, tags)
            return _whole(landing, before.kept, Answers(before.answered))
        landing = land_again(old, wiring, domains, intent, *patched, tags)
        crossing = wiring.crossing_teams or old.wiring.crossing_teams
        if crossing or in_doubt(wiring) or in_doubt(old.wiring) or not tags.same(old.tags):
            return _whole(landing, before.kept, Answers(before.answered))
        return _again(before, landing, patched[1], keys)


def _seen(old: Plan, new: Plan, kind: str, id: str) -> bool:
    """Whether an edit of a record may be any affair of a frame's: not of a pattern's, nor of what only people read."""
    one, two = old.of(kind).get(id), new.of(kind).get(id)
    if kind in UNSEEN or one is None or two is None:
        return kind not in UNSEEN
    frames_read = reads_but(kind, (*ABOUT, "part", *BESIDE.get(kind, ())))
    return bool(frames_read(one) != frames_read(two))


def _from_nothing(wiring: Wiring) -> Judgement:
    pairings, intent = Pairings(), Intent.of(wiring.plan, None)
    domains = solve(wiring, pairings)
    gathered = gather(wiring, pairings, intent)
    return _whole(land(wiring, pairings, domains, intent, gathered, Tags.of(wiring, intent, None)), Kept(), Answers())


def _whole(landing: Landing, kept: Kept, answered: Answers) -> Judgement:
    """The verdicts of all segments."""
    gates = find_gates(landing.wiring, landing.intent)
    unexposed = judge_states(landing, gates, np.arange(len(landing.stands)))
    present = presence(landing, unexposed)
    verdicts = overlay(unexposed, landing, meeting(landing, unexposed, present))
    every = range(len(landing.intent.subnets))
    misfits = _misfits(landing, verdicts, None)
    stood = standing(landing, np.arange(len(landing.stands)))
    made = _finished(landing, gates, (unexposed, present, stood), verdicts, every, {}, misfits, kept)
    return replace(with_addresses(made, None, UNKNOWN_CHANGES, ())[0], answered=answered)


def _again(before: Judgement, landing: Landing, at: Patch, records: Iterable[tuple[str, str]]) -> Judgement:
    """The verdicts after an edit: of the segments that it touched and those that they meet, the others as before."""
    old, known = before.landing, before.known
    touched, renamed, moved = _touched(old, landing, at)
    gates = _gates_again(old, landing, at, known.gates, touched)
    segment = landing.columns.segment
    unsaid = at.stands[segment[at.stands] < 0]
    both = known.gates, gates
    alone = few(old, landing, both, at, touched, moved, known.unexposed, known.standing, known.present.lonely)
    # Of steady segments those who may have moved are asked, of the others all.
    whole = touched & ~alone.steady
    wholly = _among(segment, whole, unsaid)
    part = judge_states(landing, gates, wholly)
    if alone.stands.size:
        part = together(part, judge_few(landing, gates, alone), alone.stands)
    asked = np.sort(np.concatenate([wholly, alone.stands]))
    unexposed = _carried(known.unexposed, part, asked, old, landing, at, renamed)
    stood = standing(landing, wholly, (alone.standing, whole))
    present = presence_again(
        known.present, landing, unexposed, asked, whole, spoken(old, known.unexposed.status, alone.past)
    )
    affected, met = touched.copy(), np.zeros_like(touched)
    if present.simple and known.present.simple:
        mixed = known.present.mixed, present.mixed
        for group in mixed[0].keys() | mixed[1].keys():
            past, now = (of.get(group, frozenset()) for of in mixed)
            if past != now or touched[list(past | now)].any():
                met[list(past | now)] = True
        affected |= met
        exposed = meeting(landing, unexposed, present, affected)
    else:
        affected[:-1] = met[:-1] = True
        exposed = meeting(landing, unexposed, present)
    if met.any():
        asked = np.union1d(asked, _among(segment, met, unsaid))
    final = StandVerdicts(before.status, before.causes)
    verdicts = overlay(_carried(final, unexposed, asked, old, landing, at, renamed), landing, exposed)
    numbers = np.flatnonzero(affected[:-1]).tolist()
    misfits = _misfits(landing, verdicts, (known, at, old, affected))
    made = _finished(landing, gates, (unexposed, present, stood), verdicts, numbers, known.within, misfits, before.kept)
    blocks = frozenset(landing.gathered.blocks[n].key for n in at.changed)
    touched_records, words = frozenset(records), in_words(before.plan, landing.wiring.plan, records)
    changes = Changes(blocks, blocks, touched_records, changed_ways(old.wiring, landing.wiring), words)
    made, given = with_addresses(made, before, changes, numbers)
    elsewhere = landing.wiring.home_blocks(given)
    otherwise = {id for id in given if all(for_its_address(of.own.get(id)) for of in (before, made))}
    shifted = _apart(before, made, asked, at, otherwise) | blocks
    said = blocks.union(landing.wiring.told)
    changes = replace(changes, apart=shifted | elsewhere, given=elsewhere - shifted, blocks=said)
    return replace(made, since=Since(before.token, changes), answered=Answers(before.answered, changes))


def _among(segment: np.ndarray, touched: np.ndarray, unsaid: np.ndarray) -> np.ndarray:
    """int64[n]: the stands of some segments, and some others."""
    numbers = np.flatnonzero(touched).tolist()
    if not numbers:
        return unsaid
    asked = touched.take(segment)
    asked[unsaid] = True
    return np.flatnonzero(asked)


def _touched(old: Landing, landing: Landing, at: Patch) -> tuple[np.ndarray, dict[Stand, Stand], np.ndarray]:
    """bool[segments + 1]: the segments (the last: none) of which an edit changed what verdicts rest on; the stands that were made anew and are as they
    were, by those before; and int64[n], ascending, the stands that may have moved: those made anew, and those of which a way leads elsewhere."""
    touched = np.zeros(len(landing.intent.subnets) + 1, dtype=bool)
    renamed: dict[Stand, Stand] = {}
    numbers = landing.intent.numbers
    for n in at.changed:
        was, now = _looks(old, n), _looks(landing, n)
        for record in was.keys() | now.keys():
            one, two = was.get(record), now.get(record)
            if one is not None and two is not None and one[1] == two[1]:
                renamed[one[0]] = two[0]
            else:
                for side in (one, two):
                    touched[numbers.get(side[0].segment or "", -1) if side is not None else -1] = True
    domains, rows, segment = landing.domains, landing.rows, landing.columns.segment
    moved = at.stands
    if domains is not old.domains or rows.landed is not rows.entered or old.rows.landed is not old.rows.entered:
        was_group = at.by_row(old.rows.group)
        differ = (rows.right != at.by_row(old.rows.right)) | (rows.landed != at.by_row(old.rows.landed))
        others = np.flatnonzero(rows.group != was_group)
        fabric = [group[others] % EACH_VNI < ALONE for group in (rows.group, was_group)]
        differ[others[fabric[0] | fabric[1]]] = True
        differ[at.rows] = False
        leading = old.domains.open ^ domains.open
        for past, fresh in ((old.domains.reach, domains.reach), (old.domains.heard, domains.heard)):
            leading |= {c for c in past.keys() | fresh.keys() if past.get(c) != fresh.get(c)}
        if leading:
            differ |= np.isin(rows.group % EACH_VNI, list(leading))
        elsewhere = landing.ways.stand[differ]
        touched[segment[elsewhere]] = True
        moved = np.union1d(moved, elsewhere)
    # Those that were private or routed and are no longer, too.
    for landed in (old, landing):
        touched[[*landed.private_segments, *landed.routed_segments]] = True
    touched[[numbers[id] for id in old.intent.vanished ^ landing.intent.vanished]] = True
    touched[-1] = False
    return touched, renamed, moved


def _looks(landing: Landing, block: int) -> dict[str, tuple[Stand, tuple[object, ...]]]:
    """Each stand of a block by its first record, and all of it that its segment's verdicts rest on."""
    gathered, rows, ways = landing.gathered, landing.rows, landing.ways
    (first, begin, before), (_, end, _) = gathered.at[block].tolist(), gathered.at[block + 1].tolist()
    group = rows.group[begin:end]
    columns = (
        np.where(group % EACH_VNI >= ALONE, -1, group),
        *(array[begin:end] for array in (rows.node, rows.mutual, rows.landed, rows.right, ways.open, ways.pair)),
    )
    told = list(zip(*(column.tolist() for column in columns), strict=True))
    teams = gathered.blocks[block].teams
    numbered = zip((ways.team[begin:end] - before).tolist(), ways.member[begin:end].tolist(), strict=True)
    keys = [(teams[t].key, teams[t].members[m].key) if t >= 0 else None for t, m in numbered]
    found: dict[str, tuple[Stand, tuple[object, ...]]] = {}
    for stand in gathered.blocks[block].stands:
        own = landing.rows_of(first + stand.index)
        span = slice(own.start - begin, own.stop - begin)
        teamed = bool(landing.wiring.teams_at(stand.bridge, stand.order))
        found[stand.records[0]] = (
            stand,
            (
                tuple(stand.records),
                *(stand.segment, stand.label, stand.judged, stand.hears, stand.context, stand.vni, stand.over),
                *(stand.order, stand.awake, stand.asleep, stand.rule is None, teamed),
                tuple(told[span]),
                tuple(keys[span]),
            ),
        )
    return found


def _gates_again(old: Landing, landing: Landing, at: Patch, known: Gates, touched: np.ndarray) -> Gates:
    """The gateways, looked for anew where an address in a changed block is one; marks the segments where somebody else bears one."""
    served, numbers = landing.intent.served, landing.intent.numbers
    blocks = [blocks[n] for n in at.changed for blocks in (old.gathered.blocks, landing.gathered.blocks)]
    asked = {n for block in blocks for address, _ in block.addresses if address in served for n in served[address]}
    fed = {way.segment for side in (old, landing) for way in side.wiring.plan.all(WayIn)}
    asked |= {numbers[id] for id in fed}
    gates = find_gates(landing.wiring, landing.intent, known, asked) if asked else known
    for n in asked:
        one, two = known.borne.get(n, ()), gates.borne.get(n, ())
        same = len(one) == len(two) and all(a.alike(b) for a, b in zip(one, two, strict=True))
        if not same or known.unborne.get(n) != gates.unborne.get(n):
            touched[n] = True
    # Where it isn't a segment's own stands that bear a gateway, those don't tell whether it moved.
    for n, borne in gates.borne.items():
        if any(gate.entries or gate.unsaid for gate in borne):
            touched[n] = True
    return gates


def _carried(
    was: StandVerdicts,
    part: StandVerdicts,
    asked: np.ndarray,
    old: Landing,
    landing: Landing,
    at: Patch,
    renamed: Mapping[Stand, Stand],
) -> StandVerdicts:
    """What was said of everybody, with what is said now of the stands `asked` int64[n]."""
    status = at.by_stand(was.status)
    causes = dict(was.causes)
    for one, two in renamed.items():
        status[landing.number(two)] = was.status[old.number(one)]
    for block in (old.gathered.blocks[n] for n in at.changed):
        for stand in block.stands:
            cause, fresh = causes.pop(stand, None), renamed.get(stand)
            if cause is not None and fresh is not None:
                causes[fresh] = cause
    for n in asked[status[asked] != HOME].tolist():
        causes.pop(landing.stands[n], None)
    status[asked] = part.status[asked]
    for n in asked[part.status[asked] != HOME].tolist():
        causes[landing.stands[n]] = part.causes[landing.stands[n]]
    return StandVerdicts(status, causes)


def _finished(
    landing: Landing,
    gates: Gates,
    stages: tuple[StandVerdicts, Presence, Standing],
    verdicts: StandVerdicts,
    segments: Iterable[int],
    within: Mapping[int, Own],
    misfits: tuple[Mapping[int, Mapping[str, Misfit]], tuple[object, ...]],
    kept: Kept,
) -> Judgement:
    """What single places have beside their stands, asked anew for some segments."""
    asked = set(segments)
    needy, lacking = {}, list[Stand]()
    singles = Singles(landing, gates, verdicts)
    for n in asked & gates.unborne.keys():
        stands, needy[n] = singles.needy(n, np.flatnonzero(landing.columns.segment == n))
        lacking += stands
    verdicts = _with(verdicts, landing, {stand: Cause(NO_BEARER) for stand in lacking}, UNPROVEN)
    gone = asked & {landing.intent.numbers[id] for id in landing.intent.vanished}
    for n in gone:
        # Its frames may go as before; what they are on is nobody's any more.
        at_home = (landing.columns.segment == n) & (verdicts.status == HOME)
        there = (landing.stands[k] for k in np.flatnonzero(at_home).tolist())
        verdicts = _with(verdicts, landing, {stand: Cause(GONE) for stand in there if stand.judged}, UNPROVEN)
    if in_doubt(landing.wiring):
        missed: dict[Stand, Cause] = {}
        for one, two in Exact(landing, gates, verdicts.status).missed():
            if verdicts.status[one] == HOME:
                missed.setdefault(landing.stands[one], Cause(CUT_OFF, towards=landing.stands[two].records[0]))
        verdicts = _with(verdicts, landing, missed, STRANDED)
    singles = Singles(landing, gates, verdicts)
    held = {n: own for n, own in within.items() if n not in asked}
    for n in asked & (gates.borne.keys() | needy.keys()):
        own = dict(needy.get(n, {}))
        for record, told in singles.of_segment(n).items():
            if told[0] == HOME or record not in own:
                own[record] = (UNPROVEN, Cause(GONE)) if told[0] == HOME and n in gone else told
        if own:
            held[n] = own
    all_own: Own = {record: told for own in held.values() for record, told in own.items()}
    singles.everywhere(all_own)
    for found in misfits[0].values():
        for record, misfit in found.items():
            place = landing.wiring.place(record)
            if place is None or not place.stand.judged:
                continue
            status = all_own[record][0] if record in all_own else int(verdicts.status[landing.number(place.stand)])
            if status < STRANDED:
                detail = f"{misfit.sends} {misfit.takes}"
                all_own[record] = (STRANDED, Cause(TOO_LARGE, at=misfit.at, detail=detail))
    known = Known(gates, *stages, held, *misfits)
    return Judgement(landing, known, verdicts.status, verdicts.causes, all_own, kept=kept)


def _with(verdicts: StandVerdicts, landing: Landing, causes: Mapping[Stand, Cause], verdict: int) -> StandVerdicts:
    """The verdicts with another one for some stands."""
    if not causes:
        return verdicts
    status = verdicts.status.copy()
    status[[landing.number(stand) for stand in causes]] = verdict
    return StandVerdicts(status, {**verdicts.causes, **causes})


def _misfits(
    landing: Landing, verdicts: StandVerdicts, again: tuple[Known, Patch, Landing, np.ndarray] | None
) -> tuple[Mapping[int, Mapping[str, Misfit]], tuple[object, ...]]:
    """Whose packets are too large, by segment, and what that rests on beside segments and blocks; `again`: what is known, what is changed, where all
    landed before, and the segments to ask anew."""
    wiring, intent = landing.wiring, landing.intent
    differ = may_differ(wiring.plan)
    rests = (differ, wiring.fabric, wiring.classes, landing.domains, intent.uses, wiring.plan.of("fabric_switch"))
    if not differ:
        return {}, rests
    looker = Misfits(landing)
    found: dict[int, Mapping[str, Misfit]] = {}
    if again is None or any(one is not two for one, two in zip(again[0].sized, rests, strict=True)):
        asked, blocks = set(range(len(intent.subnets))), list(landing.gathered.blocks)
    else:
        known, at, old, affected = again
        asked = set(np.flatnonzero(affected[:-1]).tolist())
        for side in (old, landing):
            changed = [side.gathered.blocks[n] for n in at.changed]
            asked |= {intent.numbers[s.segment] for block in changed for s in block.stands if s.segment is not None}
        found.update((n, of) for n, of in known.misfits.items() if n not in asked)
        own = np.zeros(len(intent.subnets) + 1, dtype=bool)
        own[list(asked)] = True
        inside = np.searchsorted(landing.gathered.at[:, 0], np.flatnonzero(own[landing.columns.segment]), side="right")
        blocks = [landing.gathered.blocks[n] for n in np.unique(inside - 1).tolist()]
    ends: dict[int, list[End]] = {}
    for end in (end for block in blocks for end in _ends(wiring, block, intent.uses)):
        n = intent.numbers[end.segment]
        place = wiring.place(end.record) if n in asked else None
        if place is not None and verdicts.status[landing.number(place.stand)] != ASTRAY:
            ends.setdefault(n, []).append(end)
    for n, of in sorted(ends.items()):
        misfits = looker.of_segment(intent.segments[n], of)
        if misfits:
            found[n] = misfits
    return found, rests


def _ends(wiring: Wiring, block: Block, uses: dict[str, tuple[str, int | None]]) -> Iterable[End]:
    """The ends of a block, as sizes of packets concern them: of a virtual switch, or of a NIC's virtual functions."""
    facts = facts_of(wiring, block, uses)
    return facts.ends if facts is not None else function_ends(wiring, block)


def _apart(before: Judgement, after: Judgement, asked: np.ndarray, at: Patch, aside: Container[str]) -> frozenset[str]:
    """The blocks that differ in what is said of them, `aside` from what is said of some (records) by themselves; `asked` int64[n] are the stands of the segments that were
    asked anew."""
    old, landing = before.landing, after.landing
    found = after.singly_apart(before, aside)
    status = at.by_stand(before.status)
    for n in asked.tolist() if asked.size < 64 else asked[(after.status[asked] | status[asked]) != HOME].tolist():
        stand = landing.stands[n]
        if status[n] != after.status[n] or not alike(before.causes.get(stand), after.causes.get(stand)):
            found.add(stand.block)
    if landing.rows.landed is not landing.rows.entered or old.rows.landed is not old.rows.entered:
        differ = at.by_row(old.rows.landed)[landing.first] != landing.rows.landed[landing.first]
        found.update(landing.stands[n].block for n in np.flatnonzero(differ).tolist())
    return frozenset(found)
