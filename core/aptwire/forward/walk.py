"""One frame with all its tags, exactly: a search over (bridge, context, tags below, port of entry).

Arrays speak of one tag.  A frame may bear several: a guest tags a frame on a switch that is tagged as a whole, or stacks tags on
purpose (IEEE 802.1Q clause 6.9; an untagged exit takes off the outermost, and the next one shows).  This search carries them.
"""

from __future__ import annotations

from collections import deque
from typing import NamedTuple

from aptwire.forward.parts import Link
from aptwire.forward.paths import Roads
from aptwire.forward.rules import RuleBook, Stack

DEEPEST = 8
"""More tags than a frame has room for beside its payload in practice; a loop that adds one each time round ends here."""


class Stop(NamedTuple):
    """A frame in a bridge: `vid` is the VID of its context (0: untagged all through), `below` the tags under it, `entry` the link by
    which it came in, None where it began."""

    bridge: int
    context: int
    vid: int
    below: Stack
    entry: Link | None


def onward(book: RuleBook, stop: Stop, link: Link) -> Stop | None:
    """Where a frame comes to over a link; None where one of its ends drops it."""
    side = link.side(stop.bridge)
    tags = book.leave(link.rules[side], stop.context, stop.vid, stop.below)
    if tags is None or len(tags) > DEEPEST:
        return None
    arrived = book.enter(link.rules[1 - side], tags)
    return Stop(link.ends[1 - side], *arrived, link) if arrived is not None else None


def flood(roads: Roads, start: Stop, order: str = "") -> list[Stop]:
    """Every stop at which a broadcast shows up, the first one included, in order of distance; `order` is the team order of its sender."""
    book = roads.wiring.book
    seen = {start: None}
    queue = deque([start])
    while queue:
        stop = queue.popleft()
        for link in roads.leaving((stop.bridge, stop.context, stop.entry), order):
            following = onward(book, stop, link)
            if following is not None and following not in seen:
                seen[following] = None
                queue.append(following)
    return list(seen)
