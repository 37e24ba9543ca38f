"""Bringing a draft up to date: what it says beyond its base, taken over onto the plan as that is by now.

Three plans are laid beside each other: the base from which both went, the plan, and the draft.  What only one of the two
changed is taken from it, field by field.  Where both changed the same, or one needs what the other took away, nobody but
people can know what is meant: that is a clash, told with both words.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from aptwire.plan.compare import apart, differing, field_words, step_between, subject, worded
from aptwire.plan.edits import Edit, apply_edit
from aptwire.plan.kinds import KINDS, REFS, SPECS, Record
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan, PlanError, Problem

Key = tuple[str, str]
Place = tuple[str, str, str]
"""Kind, id and field; no field where it is about the whole record."""
PLAN, DRAFT = "plan", "draft"


@dataclass(frozen=True)
class Clash:
    """A field (or a whole record, then `field` is empty) of which the plan and the draft want different things.

    `label` is the field in words, `base`, `plan` and `draft` what each of the three says; `chosen` whose word was chosen: plan, draft,
    or empty as long as nobody did.
    """

    kind: str
    id: str
    field: str
    name: str
    label: str
    base: str
    plan: str
    draft: str
    chosen: str = ""

    @property
    def place(self) -> Place:
        """What a choice names it by."""
        return self.kind, self.id, self.field

    def to_json(self) -> dict[str, str]:
        """For a program."""
        return {name: getattr(self, name) for name in self.__dataclass_fields__}


@dataclass(frozen=True)
class Merged:
    """A draft upon the plan as it is by now: what it says then, the edit that leads there from the plan, the clashes, and what is
    wrong with it in itself.

    Where a clash isn't chosen the plan's word stands; with problems the plan is None.
    """

    plan: Plan | None
    edit: Edit
    clashes: tuple[Clash, ...]
    problems: tuple[Problem, ...] = ()

    @property
    def clean(self) -> bool:
        """Whether it can be taken as it is: nothing is left to choose, nothing wrong."""
        return self.plan is not None and all(clash.chosen for clash in self.clashes)


def merge(base: Plan, plan: Plan, draft: Plan, chosen: Mapping[Place, str] | None = None) -> Merged:
    """The draft, which was made from `base`, upon `plan`, which went on from there; `chosen` says whose word (plan, draft) stands where they clash."""
    return _Merging(base, plan, draft, chosen or {}).made()


@dataclass
class _Merging:
    base: Plan
    plan: Plan
    draft: Plan
    chosen: Mapping[Place, str]
    taken: dict[Key, Record | None] = field(default_factory=dict)
    """What the draft makes of records of the plan; None: gone."""
    both: set[Key] = field(default_factory=set)
    """Records of which each of the two changed fields of its own."""
    clashes: dict[Place, Clash] = field(default_factory=dict)
    # Settled for good, so that what follows from one choice isn't asked, or turned round, by another.
    left: set[Key] = field(default_factory=set)
    kept: set[Key] = field(default_factory=set)
    forced: set[Key] = field(default_factory=set)

    def made(self) -> Merged:
        for key in apart(self.base, self.draft):
            self._take(*key)
        while True:
            while self._mend_references():
                pass
            edit = tuple(s for key, new in self.taken.items() if (s := step_between(*key, self._now(key), new)))
            try:
                after, _ = apply_edit(self.plan, edit)
            except PlanError as error:
                # Fields that each fit where they come from, and not together.
                whole = {(p.kind, p.id) for p in error.problems} & self.both
                if not whole:
                    return Merged(None, edit, self._told(), error.problems)
                for key in sorted(whole):
                    self._whole(key)
                continue
            return Merged(after, edit, self._told())

    def _told(self) -> tuple[Clash, ...]:
        kinds = list(KINDS)
        return tuple(sorted(self.clashes.values(), key=lambda c: (kinds.index(c.kind), c.name, c.id, c.field)))

    def _now(self, key: Key) -> Record | None:
        return self.plan.of(key[0]).get(key[1])

    def _meant(self, key: Key) -> Record | None:
        """A record as it will be."""
        return self.taken[key] if key in self.taken else self._now(key)

    def _ask(self, key: Key, name: str, base: str, plan: str, draft: str) -> str:
        """Whose word stands."""
        kind, id = key
        owner = next(p for p in (self.draft, self.plan, self.base) if id in p.of(kind))
        word = self.chosen.get((kind, id, name), "")
        label = field_words(name) if name else "the whole record"
        called_ = subject(owner, owner.get(kind, id))
        self.clashes[kind, id, name] = Clash(kind, id, name, called_, label, base, plan, draft, word)
        return word or PLAN

    def _take(self, kind: str, id: str) -> None:
        """What becomes of a record that the draft changed."""
        key = kind, id
        base, plan, draft = (p.of(kind).get(id) for p in (self.base, self.plan, self.draft))
        if plan == draft:
            return
        if plan == base:
            self.taken[key] = draft
        elif plan is None or draft is None:
            if self._ask_whole(key) == DRAFT:
                self.taken[key] = draft
        else:
            self._by_field(key, base, plan, draft)

    def _by_field(self, key: Key, base: Record | None, plan: Record, draft: Record) -> None:
        fields: dict[str, Any] = {}
        for name in differing(plan, draft):
            mine, theirs, old = getattr(draft, name), getattr(plan, name), getattr(base, name, None)
            if base is None or old not in (mine, theirs):
                words = worded(self.base, base, name) if base is not None else "nothing"
                ask = key, name, words, worded(self.plan, plan, name), worded(self.draft, draft, name)
                if self._ask(*ask) == PLAN:
                    continue
            elif mine == old:
                continue
            fields[name] = mine
        if fields:
            self.taken[key] = replace(plan, **fields)
            self.both.add(key)

    def _whole(self, key: Key) -> None:
        """A record that can't be put together field by field: one of the two is taken whole."""
        self.both.discard(key)
        for place in [p for p in self.clashes if p[:2] == key]:
            del self.clashes[place]
        if self._ask_whole(key) == DRAFT:
            self.taken[key] = self.draft.of(key[0]).get(key[1])
        else:
            self.taken.pop(key)

    def _ask_whole(self, key: Key) -> str:
        return self._ask(key, "", *(self._said(p, key) for p in (self.base, self.plan, self.draft)))

    def _said(self, plan: Plan, key: Key) -> str:
        """A whole record in words: that it is there, gone, or what it says other than in the base."""
        base, now = self.base.of(key[0]).get(key[1]), plan.of(key[0]).get(key[1])
        if now is None:
            return "nothing" if plan is self.base else "gone"
        if base is None or plan is self.base:
            return "there"
        names = differing(base, now)
        return ", ".join(f"{field_words(n)} {worded(plan, now, n)}" for n in names) or "there"

    def _mend_references(self) -> bool:
        """Settle one record that is needed and would be gone; whether there was one."""
        for key, record in list(self.taken.items()):
            for target in self._missing(record) if record is not None else ():
                self._settle_missing(key, target)
                return True
            if record is None and (needing := list(self._needing(key))):
                self._settle_needed(key, needing)
                return True
        return False

    def _missing(self, record: Record) -> Iterator[Key]:
        """The records to which one refers that will not be there."""
        for name in REFS.get(record.kind, ()):
            id = getattr(record, name)
            kinds = SPECS[record.kind][name].refs
            if id is not None and not any(self._meant((kind, id)) for kind in kinds):
                yield next((kind for kind in kinds if id in self.draft.of(kind)), kinds[0]), id

    def _settle_missing(self, key: Key, target: Key) -> None:
        """A record of the draft needs what the plan took away: that is put back, or the draft's word isn't taken."""
        old, record = self.base.of(target[0]).get(target[1]), self.taken[key]
        again = self.draft.of(target[0]).get(target[1])
        assert record is not None
        if old is not None and again is not None and target not in self.taken and target not in self.left:
            needs = f"needed by {called(self.draft, record)}"
            if self._ask(target, "", "there", "gone", needs) == DRAFT:
                self.taken[target] = again
                return
        del self.taken[key]
        self.left.add(key)

    def _needing(self, key: Key) -> Iterator[Record]:
        """The records that will refer to one."""
        there = {(r.kind, r.id) for r, _ in self.plan.referrers(*key)}
        for other in sorted(there | self.both):
            record = self._meant(other)
            if record is not None and key[1] in [
                getattr(record, name) for name in REFS.get(record.kind, ()) if key[0] in SPECS[record.kind][name].refs
            ]:
                yield record

    def _settle_needed(self, key: Key, needing: list[Record]) -> None:
        """The draft took away what the plan still needs: it stays, or what needs it goes too."""
        keys = {(record.kind, record.id) for record in needing}
        by = "needed by " + some([called(self.plan, record) for record in needing])
        stays = bool(keys & self.kept)
        if key in self.forced or (not stays and self._ask(key, "", "there", by, "gone") == DRAFT):
            self.taken.update(dict.fromkeys(keys))
            self.forced |= keys
        else:
            del self.taken[key]
            self.kept.add(key)
