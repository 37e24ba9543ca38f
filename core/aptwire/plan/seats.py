"""Which of a host's port groups is most like another one: where an adapter sits down when its guest comes to that host."""

from __future__ import annotations

from collections.abc import Iterable

from aptwire.plan.hosting import on_switches
from aptwire.plan.kinds import PortGroup
from aptwire.plan.plan import Plan
from aptwire.plan.ports import group_words


class Seats:
    """The port groups of a host."""

    def __init__(self, groups: Iterable[PortGroup]) -> None:
        self._named: dict[str, list[PortGroup]] = {}
        self._worded: dict[tuple[object, ...], PortGroup] = {}
        self._access: dict[int, PortGroup] = {}
        for group in sorted(groups, key=lambda g: g.id):
            self._named.setdefault(group.name, []).append(group)
            self._worded.setdefault(group_words(group), group)
            if group.mode == "access" and group.vid:
                self._access.setdefault(group.vid, group)

    def like(self, own: PortGroup, vid: int | None) -> PortGroup | None:
        """The one of the same name, rather one that frames see as they see `own`, or that has the VID; else one that they see so; else one with
        access to the VID; None where there is none of them."""
        words = group_words(own)

        def rank(group: PortGroup) -> tuple[bool, bool]:
            return group_words(group) == words, bool(vid) and group.mode == "access" and group.vid == vid

        named = self._named.get(own.name)
        if named:
            return named[0] if len(named) == 1 else max(named, key=rank)
        return self._worded.get(words) or self._access.get(vid or 0)


def seats_of(plan: Plan, host: str) -> Seats:
    """The port groups of a host of a plan."""
    return Seats(on_switches(plan, "port_group", host))
