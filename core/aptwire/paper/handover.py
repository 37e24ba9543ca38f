"""A report of a plan for whoever takes it over: one HTML file that needs nothing else and prints well."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Iterator, Sequence
from html import escape

from aptwire.judge.accepted import sorted_out, standing
from aptwire.judge.alone import alone
from aptwire.judge.findings import Finding, everything
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks import Risk
from aptwire.judge.risks.alike import offs
from aptwire.paper.decks import MOST_HOSTS, decks_svg
from aptwire.paper.drawing import strand_svg
from aptwire.paper.sheets import Cell, Sheet
from aptwire.paper.tables import all_ports, landing, ledger, meetings, moves, natural, wiring
from aptwire.plan.kinds import ABOUT, KINDS, Guest, Host, Nic, Pattern, Segment
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.rules.asking import asked
from aptwire.stress.load import load_of
from aptwire.stress.telling import failing, way_called

MARKS = {"home": "●", "unproven": "◌", "wavering": "◐", "stranded": "▲", "astray": "◆", "exposed": "■", "idle": "○"}

SHORT = 16
"""Letters of a word that a column of a table holds whole."""
MOST_NAMED = 8
"""Of a list in a cell: as many as a sheet of paper is wide enough for."""
MOST_CABLES = 40
"""As many directions of cables are told as somebody might read, the fullest."""

STYLE = """
:root { color-scheme: light }
body { font: 10.5pt/1.45 system-ui, sans-serif; color: #1c2733; max-width: 190mm; margin: 12mm auto; padding: 0 6mm }
h1 { font-size: 20pt; margin: 0 0 2mm } h2 { font-size: 13pt; margin: 9mm 0 2mm; break-after: avoid }
h3 { font-size: 11pt; margin: 5mm 0 1mm; break-after: avoid } p { margin: 0 0 2mm; max-width: 150mm }
table { border-collapse: collapse; width: 100%; font-size: 8.5pt; margin: 0 0 3mm }
th, td { text-align: left; vertical-align: top; padding: 0.7mm 1.6mm; border-bottom: 0.2mm solid #cfc8ba; overflow-wrap: anywhere }
td:nth-child(-n+2) { overflow-wrap: break-word; max-width: 45mm }
th { border-bottom-color: #1c2733; font-weight: 600 } td.n, th.n { text-align: right; font-variant-numeric: tabular-nums }
td { min-width: 24mm } td.n, td.k { min-width: 0 } td.n, td.k, th { overflow-wrap: break-word }
thead { display: table-header-group } tr { break-inside: avoid }
.strand svg { max-width: 100%; height: auto; break-inside: avoid } li { margin: 0 0 1.2mm } .quiet { color: #5a6472 } nav { columns: 2; margin: 3mm 0 }
@media print { body { margin: 0; max-width: none; padding: 0 } nav { display: none } h2.page { break-before: page } a { color: inherit; text-decoration: none } }
@page { margin: 14mm }
"""


def handover(judgement: Judgement, today: datetime.date) -> Iterator[str]:
    """The report's HTML, part by part: what the plan is, how it stands, segments and their strands, rules, meetings, moves, patterns, findings, landing, wiring, ports."""
    plan = judgement.plan
    name = escape(plan.name)
    found, accepted = sorted_out(plan, everything(judgement), today)
    # What each is called, whether it begins a page, and what stands in it.
    sections: tuple[tuple[str, bool, Iterator[str]], ...] = (
        ("How it stands", False, counts_table(judgement)),
        ("Drawing", False, _drawing(judgement)),
        ("Findings", False, _left(plan, found, accepted, today)),
        ("Segments", False, sheet_table(ledger(judgement), "There is no segment.")),
        ("Networks from elsewhere", False, sheet_table(_elsewhere(judgement), "No other system defines any of them.")),
        ("Strands", False, _strands(judgement)),
        ("Rules", False, rules_table(judgement)),
        ("Who meets whom", False, sheet_table(meetings(judgement, MOST_NAMED), "There is no segment.")),
        ("Where guests could run", False, sheet_table(moves(judgement, MOST_NAMED), "There is no guest.")),
        ("Patterns", False, _patterns(judgement)),
        ("Where everything lands", True, landing_table(judgement)),
        ("Wiring", True, sheet_table(_cables(plan), "There is no cable.")),
        ("Ports", True, _ports(plan)),
        ("Queues", False, sheet_table(_queues(plan), "Of no NIC is it said which processors serve it.")),
        ("Load", False, sheet_table(_load(judgement), "Nobody said what is sent.")),
        ("Notes", False, sheet_table(_said(plan), "Nobody noted anything.")),
    )
    yield f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{name}</title><style>{STYLE}</style></head><body>\n'
    yield f"<h1>{name}</h1>\n<p class='quiet'>Hand-over report of {today.isoformat()}: {_size(plan)}.</p>\n"
    yield "<nav>" + "<br>".join(f'<a href="#{_anchor(s)}">{s}</a>' for s, _, _ in sections) + "</nav>\n"
    for title, page, body in sections:
        yield from section(title, body, page)
    yield "</body></html>\n"


def _left(
    plan: Plan, found: Iterable[Finding | Risk], accepted: Sequence[Finding | Risk], today: datetime.date
) -> Iterator[str]:
    """The findings that are left, and apart from them those that somebody accepts."""
    yield from _findings(found)
    if accepted:
        yield "<h3>Accepted</h3>\n"
        yield from _accepted(plan, accepted, today)


def _ports(plan: Plan) -> Iterator[str]:
    """The ports of each fabric switch."""
    sheets = all_ports(plan)
    for sheet in sheets:
        yield f"<h3>{escape(sheet.name)}</h3>\n"
        # The heading says which switch it is.
        yield from sheet_table(Sheet(sheet.name, sheet.head[1:], tuple(row[1:] for row in sheet.rows)), "")
    if not sheets:
        yield "<p>There is no fabric switch with ports.</p>\n"


def _drawing(judgement: Judgement) -> Iterator[str]:
    """The hosts in cross-section, as far as anybody would look at so many."""
    hosts = list(judgement.plan.all(Host))
    if len(hosts) > MOST_HOSTS:
        yield f"<p class=quiet>{len(hosts):,} hosts are more than a page holds.</p>\n"
    elif hosts:
        yield f"<div class=strand>{decks_svg(judgement, hosts, judgement.plan.name)}</div>\n"
    else:
        yield "<p>There is no host.</p>\n"


MOST_LINES = 60
"""Of a drawing: as many as stand on a page."""


def _strands(judgement: Judgement) -> Iterator[str]:
    """Each segment's way through everything."""
    plan, members = judgement.plan, judgement.members()
    for segment in sorted(plan.all(Segment), key=lambda s: natural(s.name)):
        yield f"<h3>{escape(segment.name)} {segment.vid or ''}</h3>\n"
        if members.get(segment.id, 0) > MOST_LINES:
            yield f"<p class=quiet>{members[segment.id]:,} endpoints are more than a page holds.</p>\n"
            continue
        drawing = strand_svg(plan, alone(judgement, segment), f"{segment.name} alone", MOST_LINES)
        yield f"<div class=strand>{drawing}</div>\n"
    if not plan.of("segment"):
        yield "<p>There is no segment.</p>\n"


def _anchor(text: str) -> str:
    return text.lower().replace(" ", "-")


def section(title: str, body: Iterator[str], page: bool = False) -> Iterator[str]:
    """A part of a report with its heading, on a page of its own if it is to be."""
    yield _head(title, page)
    yield from body


def _head(text: str, page: bool = False) -> str:
    return f'<h2 id="{_anchor(text)}"{" class=page" if page else ""}>{text}</h2>\n'


def _size(plan: Plan) -> str:
    counted = [(len(plan.of(kind)), words) for kind, words in _COUNTED.items()]
    return ", ".join(f"{n:,} {words[n != 1]}" for n, words in counted if n) or "nothing in it yet"


_COUNTED = {
    "host": ("host", "hosts"),
    "guest": ("guest", "guests"),
    "adapter": ("adapter", "adapters"),
    "segment": ("segment", "segments"),
    "fabric_switch": ("fabric switch", "fabric switches"),
    "cable": ("cable", "cables"),
}


def counts_table(judgement: Judgement) -> Iterator[str]:
    """How many endpoints have each verdict."""
    counts = judgement.counts()
    rows = tuple((f"{MARKS[verdict]} {verdict}", n) for verdict, n in counts.items() if n)
    yield from sheet_table(Sheet("counts", ("verdict", "endpoints"), rows), "There is no endpoint to judge yet.")
    asleep = sum(not guest.running for guest in judgement.plan.all(Guest))
    hosts = sum(1 for _ in judgement.plan.all(Host))
    if hosts and not any(n for verdict, n in counts.items() if verdict not in ("home", "idle")):
        yield "<p>Every endpoint is where it belongs, whichever NIC carries it.</p>\n"
    if asleep:
        yield f"<p class='quiet'>{asleep} {'guest is off; judged as if it' if asleep == 1 else 'guests are off; judged as if they'} were on, and counted as idle.</p>\n"


def _findings(found: Iterable[Finding | Risk]) -> Iterator[str]:
    listed = list(found)
    if not listed:
        yield "<p>None is left.</p>\n"
        return
    yield "<ul>\n"
    for f in listed:
        word = ("idle, " if f.idle else "") + f.verdict
        yield f"<li><b>{escape(f.title)}</b> <span class='quiet'>({word})</span><br>{escape(f.text)}</li>\n"
    yield "</ul>\n"


def _accepted(plan: Plan, found: Iterable[Finding | Risk], today: datetime.date) -> Iterator[str]:
    yield "<ul>\n"
    for f in found:
        known = standing(plan, f, today)
        assert known is not None
        yield f"<li><b>{escape(f.title)}</b><br>{escape(str(known))}</li>\n"
    yield "</ul>\n"


def landing_table(judgement: Judgement) -> Iterator[str]:
    """Where everything lands; what the command line calls an endpoint says no more than its host and name."""
    sheet = landing(judgement)
    kept = [n for n, title in enumerate(sheet.head) if title != "key"]
    rows = tuple(tuple(row[n] for n in kept) for row in sheet.rows)
    yield from sheet_table(Sheet(sheet.name, tuple(sheet.head[n] for n in kept), rows), "There is no endpoint.")


def rules_table(judgement: Judgement) -> Iterator[str]:
    """The rules, and how each stands."""
    rows = tuple((rule.text, answer.outcome, answer.text) for rule, answer in asked(judgement).rules())
    yield from sheet_table(Sheet("rules", ("rule", "how it stands", "why"), rows), "The plan has no rules.")


def _patterns(judgement: Judgement) -> Iterator[str]:
    plan, off = judgement.plan, offs(judgement)
    rows: list[tuple[Cell, ...]] = []
    for pattern in sorted(plan.all(Pattern), key=lambda p: p.name):
        for stamp in sorted(plan.where("stamp", "pattern", pattern.id), key=lambda s: s.number):
            text = "; ".join(map(str, off.get(stamp.id, ()))) or "on it"
            rows.append((pattern.name, stamp.number, called(plan, plan.get("host", stamp.host)), text))
    yield from sheet_table(
        Sheet("patterns", ("pattern", "number", "host", "how it stands"), tuple(rows)), "There is no pattern."
    )


def _cables(plan: Plan) -> Sheet:
    """The wiring schedule with what is said of an end in one cell: a sheet of paper is narrow."""
    rows: list[tuple[Cell, ...]] = []
    for row in wiring(plan).rows:
        one, two, marks = row[:8], row[8:16], (str(cell) for cell in row[16:18] if cell)
        speeds = {f"{end[4]:,}" for end in (one, two) if isinstance(end[4], int)}
        rows.append((*_end(one), *_end(two), " / ".join(sorted(speeds)), ", ".join(marks)))
    return Sheet("wiring", ("from", "tags there", "to", "tags there", "Mbit/s", "label, panels"), tuple(rows))


def _elsewhere(judgement: Judgement) -> Sheet:
    """The segments that sources define, and what became of them."""
    plan, members = judgement.plan, judgement.members()
    rows: list[tuple[Cell, ...]] = []
    for segment in sorted((s for s in plan.all(Segment) if s.source), key=lambda s: natural(s.name)):
        source = plan.get("source", segment.source)
        tag = f"VNI {segment.vni}" if segment.vni else segment.vid
        state = "vanished" if segment.vanished else "defined"
        users = members.get(segment.id, 0)
        rows.append(
            (segment.name, segment.origin, tag, ", ".join(segment.subnets), users, source.name, state, source.read)
        )
    return Sheet(
        "elsewhere", ("segment", "called there", "tag", "subnets", "used by", "source", "state", "read"), tuple(rows)
    )


def _queues(plan: Plan) -> Sheet:
    """Which processors serve the receive queues of which NIC."""
    rows: list[tuple[Cell, ...]] = []
    for nic in sorted((n for n in plan.all(Nic) if n.cores or n.queues), key=lambda n: natural(called(plan, n))):
        host = plan.get("host", nic.host)
        rows.append((host.name, nic.name, nic.speed, nic.numa, nic.queues, nic.most_queues, nic.cores))
    return Sheet("queues", ("host", "NIC", "Mbit/s", "NUMA node", "queues", "of", "processors"), tuple(rows))


def _load(judgement: Judgement) -> Sheet:
    """How full cables get, the fullest first, in percent of what they carry, or in Mbit/s where nobody says that."""
    head = ("cable", "Mbit/s", "asked for", "full", "at worst", "in a burst", "after a failure", "of")
    load = load_of(judgement) if judgement.plan.of("flow") else None
    rows: list[tuple[Cell, ...]] = []
    for one in load.directions[:MOST_CABLES] if load is not None else ():
        shares = (
            f"{value / one.speed:.0%}" if one.speed else "" for value in (one.asked, one.most, one.burst, one.after)
        )
        failed = failing(load, one.failure) if load is not None and one.failure is not None else ""
        rows.append((way_called(load, one.way), one.speed, round(one.asked), *shares, failed))  # type: ignore[arg-type]
    return Sheet("load", head, tuple(rows))


def _said(plan: Plan) -> Sheet:
    """What people say of records, and who answers for them; what is said of segments, cables and ports stands in their own tables."""
    rows = [
        (KINDS[record.kind].title, called(plan, record), record.note, record.owner)
        for record in plan
        if record.kind not in ("segment", "cable", "fabric_port", "acceptance") and (record.note or record.owner)
    ]
    return Sheet("notes", ("kind", "of", *ABOUT), tuple(rows))


def _end(end: tuple[Cell, ...]) -> tuple[str, str]:
    tagged, untagged, team = (str(cell or "") for cell in end[5:8])
    tags = "; ".join(part for part in (tagged, f"untagged {untagged}" if untagged else "", team) if part)
    return f"{end[1]} {end[3]}".strip(), tags


def sheet_table(sheet: Sheet, empty: str) -> Iterator[str]:
    """A sheet as a table; a sentence where it is empty."""
    if not sheet.rows:
        yield f"<p>{empty}</p>\n"
        return
    # Columns that nobody fills only make the others narrow.
    used = [n for n in range(len(sheet.head)) if any(row[n] not in (None, "") for row in sheet.rows)]
    # Numbers, and words that are short on every row, aren't broken within.
    marks = dict.fromkeys(used, "")
    for n in used:
        if all(row[n] is None or isinstance(row[n], int) for row in sheet.rows):
            marks[n] = " class=n"
        elif all(len(word) <= SHORT for row in sheet.rows for word in str(row[n] or "").split()):
            marks[n] = " class=k"
    yield f"<table><thead><tr>{''.join(_cell('th', sheet.head[n], mark) for n, mark in marks.items())}</tr></thead><tbody>\n"
    for row in sheet.rows:
        yield f"<tr>{''.join(_cell('td', row[n], mark) for n, mark in marks.items())}</tr>\n"
    yield "</tbody></table>\n"


def _cell(tag: str, value: Cell, mark: str) -> str:
    text = "" if value is None else escape(str(value))
    return f"<{tag}{mark}>{text}</{tag}>"
