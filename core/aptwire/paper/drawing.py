"""A segment's strand as a drawing (SVG 1.1): the lines of its tree, where it breaks, and who could overhear it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from html import escape

from aptwire.forward.strand import CARRIES, DROPPED, RESERVE
from aptwire.judge.alone import Alone
from aptwire.plan.names import called
from aptwire.plan.plan import Plan

ROW, STEP, LETTER = 17, 16, 6.1
INK, QUIET, STRAND, BROKEN, EAR = "#1c232c", "#5a6472", "#2b5fa8", "#ae1f1f", "#8a4b12"


@dataclass(frozen=True)
class _Line:
    """A line of the drawing: how deep it hangs, how what is above leads there, what it says and in which colour."""

    depth: int
    state: str
    text: str
    ink: str = INK


def strand_svg(plan: Plan, alone: Alone, title: str, most: int | None = None) -> str:
    """The drawing, as text; of more than `most` lines (None: all) it tells how many are left out."""
    lines = list(_lines(plan, alone)) or [_Line(0, "", "Nobody is on it yet.", QUIET)]
    if most is not None and len(lines) > most:
        lines = [*lines[:most], _Line(0, "", f"and {len(lines) - most} more lines", QUIET)]
    width = max(line.depth * STEP + 8 + len(line.text) * LETTER for line in lines)
    drawn = "".join(_drawn(n, line, runs) for n, (line, runs) in enumerate(zip(lines, _runs(lines), strict=True)))
    height = len(lines) * ROW + 4
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:.0f}" height="{height}" viewBox="0 0 {width:.0f} {height}"'
        f' role="img" font-family="system-ui, sans-serif" font-size="11"><title>{escape(title)}</title>{drawn}</svg>'
    )


def _lines(plan: Plan, alone: Alone) -> Iterator[_Line]:
    for knot in alone.knots:
        names = " – ".join(called(plan, plan.find(record)) for record in knot.records)
        more = {RESERVE: ", in reserve", DROPPED: ", cut off"}.get(knot.state, "")
        more += ", drawn elsewhere too" if knot.again else ""
        more += ", doesn’t belong here" if knot.foreign else ""
        yield _Line(knot.depth, knot.state, names + more, QUIET if knot.state in (RESERVE, DROPPED) else INK)
        for broken in knot.breaks:
            yield _Line(knot.depth + 1, DROPPED, f"✕ {broken.reason}", BROKEN)
        for ear in knot.ears:
            yield _Line(knot.depth + 1, "", f"heard: {ear.text}", EAR)
    for ear in alone.beyond:
        yield _Line(0, "", f"heard: {ear.text}", EAR)


def _runs(lines: Sequence[_Line]) -> list[list[bool]]:
    """Of each line, at which depths up to its own a line runs on downwards."""
    made: list[list[bool]] = []
    below: list[bool] = []
    for line in reversed(lines):
        below += [False] * (line.depth + 1 - len(below))
        made.append(below[: line.depth + 1])
        below = [*below[: line.depth], True]
    return made[::-1]


def _drawn(n: int, line: _Line, runs: list[bool]) -> str:
    top, middle = n * ROW, n * ROW + 6
    parts = [
        f'<path d="M{depth * STEP - 8} {top}V{top + ROW}" stroke="{STRAND}" opacity=".6"/>'
        for depth, on in enumerate(runs)
        if depth and on
    ]
    if line.depth:
        x = line.depth * STEP - 8
        whole = line.state == CARRIES
        ink = line.ink if line.ink in (BROKEN, EAR) else STRAND
        dash = f'stroke-width="{2 if whole else 1.2}"' + ("" if whole else ' stroke-dasharray="3 2"')
        parts.append(f'<path d="M{x} {top}V{middle}q0 4 4 4H{x + 8}" fill="none" stroke="{ink}" {dash}/>')
    parts.append(f'<text x="{line.depth * STEP + 4}" y="{top + 13}" fill="{line.ink}">{escape(line.text)}</text>')
    return "".join(parts)
