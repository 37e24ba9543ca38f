"""The engine in a terminal: read, check, compare, stamp, trace, ping, rules, hears, could.  Exit status 0 all home, 1 findings, 2 unusable input."""

from __future__ import annotations

import datetime
import json
import os
import sys
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any, NoReturn

import click

from aptwire.above.outcomes import ANSWERED
from aptwire.above.ping import end_of
from aptwire.above.ping import ping as ask_ping
from aptwire.above.room import told_size
from aptwire.formats.counters import read_counters
from aptwire.formats.elsewhere import moment, new_source, taken
from aptwire.formats.hosts import read_hosts
from aptwire.formats.linux import LARGEST_FILE
from aptwire.formats.topology import read_topology
from aptwire.formats.topology_of import topology_of
from aptwire.forward.compiling import compile_wiring
from aptwire.forward.hearing import find_nic
from aptwire.forward.hearing import hears as who_hears
from aptwire.forward.parts import State
from aptwire.forward.strand import DROPPED, RESERVE
from aptwire.forward.trace import find_place
from aptwire.forward.trace import trace as trace_frame
from aptwire.judge.accepted import sorted_out, standing
from aptwire.judge.alone import alone
from aptwire.judge.beside import endpoint_name, laid_beside
from aptwire.judge.causes import spoken
from aptwire.judge.could import could as all_could
from aptwire.judge.could import exactly
from aptwire.judge.findings import Finding, everything
from aptwire.judge.formed import TAKEN
from aptwire.judge.judgement import Judgement
from aptwire.judge.lease import LEASED
from aptwire.judge.need import LACKING, SPARE, needs
from aptwire.judge.risks.rules import RULE_RISKS
from aptwire.judge.verdicts import judge
from aptwire.moving.clearing import clear
from aptwire.moving.faults import COLD, FARES, LESS, RUNS
from aptwire.moving.moves import BY_GUEST, by_guest, moving
from aptwire.paper.capture import capture
from aptwire.paper.decks import MOST_HOSTS, decks_svg
from aptwire.paper.drawing import strand_svg
from aptwire.paper.handover import handover
from aptwire.paper.reading import read_table
from aptwire.paper.sheets import to_csv, to_xlsx
from aptwire.paper.tables import SHEETS, joined
from aptwire.paper.taking import SORTS
from aptwire.paper.taking import take as take_sheet
from aptwire.paper.validation import validation, validation_html
from aptwire.plan.compare import changes
from aptwire.plan.cores import write as write_processors
from aptwire.plan.edits import apply_edit
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.filters import read_packet
from aptwire.plan.kinds import (
    Cable,
    Host,
    NumaNode,
    Segment,
    Source,
)
from aptwire.plan.names import called, endpoint_key, some
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.sentences import RuleError
from aptwire.recheck import read_report
from aptwire.recheck import recheck as check_report
from aptwire.report import landings, summary
from aptwire.rules.answer import BROKEN
from aptwire.rules.asking import asked as asked_rules
from aptwire.rules.chosen import chosen
from aptwire.rules.meetings import BY_SEGMENT, MEETING, by_role, by_segment, listed, meeting
from aptwire.rules.meetings import meetings as all_meetings
from aptwire.stamping.making import STARTERS, from_host, from_starter
from aptwire.stamping.off import off
from aptwire.stamping.stamp import stamp as stamped
from aptwire.stress.courses import Failure
from aptwire.stress.load import Load, load_of
from aptwire.stress.measured import measured
from aptwire.stress.queues import script
from aptwire.stress.queues import settings as queue_settings
from aptwire.stress.queues import told as queue_plan
from aptwire.stress.telling import failing, failure_called, greatest_burst
from aptwire.stress.telling import told as load_told


@click.group(help=__doc__)
def main() -> None:
    """The command group."""


def _fail(problems: Iterable[Problem] | str) -> NoReturn:
    lines = [problems] if isinstance(problems, str) else [str(p) for p in problems]
    for line in lines:
        click.echo(f"error: {line}", err=True)
    sys.exit(2)


def _load(path: str) -> Plan:
    try:
        with open(path, "rb") as file:
            return read_plan(file.read(), os.path.basename(path))
    except OSError as error:
        _fail(f"{path}: {error.strerror}")
    except PlanError as error:
        _fail(error.problems)


def table(head: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """Rows as aligned columns under a head."""
    lines = [list(head), *([str(cell) for cell in row] for row in rows)]
    widths = [max(len(line[n]) for line in lines) for n in range(len(head))]
    made = ["  ".join(cell.ljust(width) for cell, width in zip(line, widths, strict=True)).rstrip() for line in lines]
    return "\n".join([made[0], "  ".join("─" * width for width in widths), *made[1:]])


def _print_json(value: Any) -> None:
    click.echo(json.dumps(value, ensure_ascii=False, indent=1))


@main.command(help="Make a plan from the state of real hosts: a folder for each device.")
@click.argument("folder", type=click.Path(exists=True, file_okay=False))
@click.option("-o", "--output", required=True, help="the plan file to write")
@click.option("--name", help="what the plan is called; the folder's name unless said")
@click.option("--json", "as_json", is_flag=True, help="the report as JSON")
def read(folder: str, output: str, name: str | None, as_json: bool) -> None:
    """Read host states."""
    files: dict[str, bytes] = {}
    for base, _, names in sorted(os.walk(folder)):
        for file in sorted(names):
            path = os.path.join(base, file)
            short = os.path.relpath(path, folder)
            if os.path.getsize(path) > LARGEST_FILE:
                _fail([Problem(f"is {os.path.getsize(path)} bytes long; {LARGEST_FILE} is the most", place=short)])
            with open(path, "rb") as opened:
                files[short] = opened.read()
    try:
        plan, report = read_hosts(files, name or os.path.basename(os.path.normpath(folder)))
    except PlanError as error:
        _fail(error.problems)
    _write(output, write_plan(plan))
    if as_json:
        _print_json([note.to_json() for note in report.notes])
    else:
        click.echo(table(("", "about", "report"), [(n.what, n.about, n.text) for n in report.notes]))
        click.echo(f"\n{len(plan)} records written to {output}")


@main.command(help="Judge every endpoint of a plan.")
@click.argument("plan_file")
@click.option("--json", "as_json", is_flag=True, help="counts, endpoints and findings as JSON")
@click.option("--today", type=click.DateTime(["%Y-%m-%d"]), help="the day by which acceptances hold; today unless said")
def check(plan_file: str, as_json: bool, today: datetime.datetime | None) -> None:
    """Judge a plan."""
    judgement = judge(_load(plan_file))
    day = today.date() if today is not None else datetime.date.today()
    every = everything(judgement)
    found, accepted = sorted_out(judgement.plan, every, day)
    made = {**summary(judgement, every, day), "endpoints": landings(judgement)}
    if as_json:
        _print_json(made)
    else:
        names = {s.id: f"{s.name} {s.vid or ''}".strip() for s in judgement.plan.all(Segment)}
        rows = [
            (
                ("idle, " if e["idle"] else "") + tag["verdict"],
                e["key"],
                e["name"],
                tag["tag"],
                names.get(tag["belongs"], "–"),
                names.get(tag["lands"]) or ("–" if tag["lands_vid"] is None else str(tag["lands_vid"] or "untagged")),
            )
            for e in made["endpoints"]
            for tag in e["tags"]
        ]
        click.echo(table(("verdict", "endpoint", "of", "tag", "belongs on", "lands on"), rows))
        click.echo("\n" + ", ".join(f"{n} {verdict}" for verdict, n in made["counts"].items() if n) + "\n")
        for finding in found:
            known = standing(judgement.plan, finding, day)
            back = f"\n  Back: {known.over} (by {known.record.by}: {known.record.why})" if known is not None else ""
            click.echo(f"{finding.verdict}: {finding.title}\n  {finding.text}{back}")
        for finding in accepted:
            own = standing(judgement.plan, finding, day)
            assert own is not None
            click.echo(f"accepted, {finding.verdict}: {finding.title}\n  By {own}")
    broken = RULE_RISKS[BROKEN]
    sys.exit(1 if any(isinstance(finding, Finding) or finding.what == broken for finding in found) else 0)


@main.command(help="Write a plan’s segments (or another sheet of it) for a spreadsheet, or bring it to what one says.")
@click.argument("plan_file")
@click.option("--of", "which", type=click.Choice((*SHEETS, "cables")), default="segments", help="segments unless said")
@click.option("--csv", "form", flag_value="csv", default="csv", help="as CSV, to the terminal unless -o names a file")
@click.option("--xlsx", "form", flag_value="xlsx", help="as a workbook")
@click.option("--take", metavar="FILE", help="bring the plan to what this sheet (CSV or XLSX) says, and write it to -o")
@click.option("--column", "titles", metavar="FIELD=TITLE", multiple=True, help="which column is which (repeatable)")
@click.option("-o", "--output", help="the file to write")
def ledger(
    plan_file: str, which: str, form: str, take: str | None, titles: tuple[str, ...], output: str | None
) -> None:
    """Write a sheet, or take one."""
    plan = _load(plan_file)
    if take is not None:
        _take_sheet(plan, which, take, dict(_titles(titles)), output)
        return
    sheets = SHEETS["wiring" if which == "cables" else which](judge(plan))
    if form == "csv":
        text = to_csv(joined(sheets))
        if output is None:
            click.echo(text, nl=False)
        else:
            _write(output, text.encode())
    elif output is None:
        _fail("a workbook needs a file: -o FILE")
    else:
        _write(output, to_xlsx(sheets or [joined(sheets)]))


def _titles(said: Iterable[str]) -> Iterator[tuple[str, str]]:
    for text in said:
        field, equals, title = text.partition("=")
        if not equals:
            _fail(f"“{text}” is no FIELD=TITLE")
        yield field, title


def _take_sheet(plan: Plan, which: str, path: str, titles: dict[str, str], output: str | None) -> None:
    """Bring a plan to what a sheet says; nothing is written where any of it can't be used."""
    if output is None:
        _fail("the plan needs a file to be written to: -o FILE")
    sort = "cables" if which == "wiring" else which
    if sort not in SORTS:
        _fail(f"a sheet of {which} can’t be taken; there are {', '.join(SORTS)}")
    try:
        with open(path, "rb") as file:
            data = file.read()
        after, _ = apply_edit(plan, take_sheet(plan, sort, read_table(data, os.path.basename(path)), titles))
    except OSError as error:
        _fail(f"{path}: {error.strerror}")
    except PlanError as error:
        _fail(error.problems)
    for change in changes(plan, after):
        click.echo(str(change))
    if after == plan:
        click.echo("nothing differs")
    _write(output, write_plan(after))


@main.command(help="Write a hand-over report of a plan: one HTML file that prints well.")
@click.argument("plan_file")
@click.option("-o", "--output", required=True, help="the file to write")
@click.option("--today", type=click.DateTime(["%Y-%m-%d"]), help="the day of the report; today unless said")
def report(plan_file: str, output: str, today: datetime.datetime | None) -> None:
    """Write a report."""
    day = today.date() if today is not None else datetime.date.today()
    _write(output, "".join(handover(judge(_load(plan_file)), day)).encode())


@main.command(
    help="Write a validation report of a plan, with the evidence that recheck verifies: as HTML, or as JSON where FILE ends so."
)
@click.argument("plan_file")
@click.option("-o", "--output", required=True, help="the file to write")
@click.option(
    "--proved", multiple=True, help="a sentence on what a kernel was asked and when, which the report repeats"
)
def validate(plan_file: str, output: str, proved: tuple[str, ...]) -> None:
    """Write a validation report."""
    judgement = judge(_load(plan_file))
    made = validation(judgement, datetime.datetime.now().astimezone(), proved)
    whole = (
        json.dumps(made, ensure_ascii=False) if output.endswith(".json") else "".join(validation_html(judgement, made))
    )
    _write(output, whole.encode())


@main.command(
    help="Check a validation report against its plan, with nothing of the engine. Exit status 1 where a claim fails."
)
@click.argument("plan_file")
@click.argument("report_file")
@click.option("--json", "as_json", is_flag=True, help="what became of each claim as JSON")
def recheck(plan_file: str, report_file: str, as_json: bool) -> None:
    """Check a report."""
    plan = _load(plan_file)
    try:
        with open(report_file, "rb") as file, open(plan_file, "rb") as known:
            found = check_report(plan, read_report(file.read()), known.read())
    except (OSError, ValueError) as error:
        _fail(f"{report_file}: {error}")
    if as_json:
        _print_json(found.to_json())
    else:
        for title, lines in (("fails", found.failed), ("not checked", found.unchecked)):
            for line in lines:
                click.echo(f"{title}: {line}")
        right = ", ".join(f"{count:,} {sort}" for sort, count in sorted(found.right.items())) or "none"
        click.echo(
            f"claims that hold: {right}; that fail: {len(found.failed)}; that weren't checked: {len(found.unchecked)}"
        )
    sys.exit(1 if found.failed else 0)


@main.command(help="Lay plan B beside plan A: records, verdicts and findings that differ. Exit status 1 if any does.")
@click.argument("a")
@click.argument("b")
@click.option("--json", "as_json", is_flag=True, help="all of it as JSON")
def compare(a: str, b: str, as_json: bool) -> None:
    """Compare two plan files."""
    one, two = judge(_load(a)), judge(_load(b))
    said = laid_beside(one, two)
    if as_json:
        _print_json(said.to_json())
    else:
        for change in said.changes:
            click.echo(str(change))
        rows = [(name, str(said.counts[0][name]), str(n)) for name, n in said.counts[1].items()]
        click.echo("\n" + table(("verdict", os.path.basename(a), os.path.basename(b)), rows) + "\n")
        for move in said.moves:
            click.echo(f"{endpoint_name(one, two, move.endpoint)}: {move.before or 'new'} → {move.after or 'gone'}")
        for word, found in (("no longer", said.gone), ("new", said.new)):
            for finding in found:
                click.echo(f"{word}: {finding.title}")
    sys.exit(1 if said else 0)


@main.command(
    help="Stamp a pattern on hosts (names), or make one of a host or a starting point first. Without hosts: who is on it, and who off."
)
@click.argument("plan_file")
@click.argument("pattern")
@click.argument("hosts", nargs=-1)
@click.option("-o", "--output", help="the plan file to write")
@click.option("--from", "source", metavar="HOST", help="make the pattern of all that this host has")
@click.option("--start", type=click.Choice(tuple(STARTERS)), help="make the pattern of a starting point")
@click.option(
    "--nic",
    "nics",
    metavar="HOST/NAME=NIC",
    multiple=True,
    help="which NIC is the pattern’s NAME (repeatable; - for none)",
)
@click.option("--json", "as_json", is_flag=True, help="as JSON: host to differences")
def stamp(
    plan_file: str,
    pattern: str,
    hosts: tuple[str, ...],
    output: str | None,
    source: str | None,
    start: str | None,
    nics: tuple[str, ...],
    as_json: bool,
) -> None:
    """Stamp a pattern."""
    plan = _load(plan_file)
    try:
        if source is not None:
            plan, _ = apply_edit(plan, from_host(plan, _by_name(plan, "host", source).id, pattern))
        elif start is not None:
            plan, _ = apply_edit(plan, from_starter(plan, start, pattern))
        own = _by_name(plan, "pattern", pattern)
        if hosts:
            ids = [_by_name(plan, "host", name).id for name in hosts]
            plan, _ = apply_edit(plan, stamped(plan, own.id, ids, dict(_nics_said(plan, own.id, nics))))
    except PlanError as error:
        _fail(error.problems)
    if output is not None:
        _write(output, write_plan(plan))
    stamps = sorted(plan.where("stamp", "pattern", own.id), key=lambda s: s.number)
    found = {plan.get("host", s.host).name: off(plan, s) for s in stamps}
    if as_json:
        _print_json({host: [one.to_json() for one in listed] for host, listed in found.items()})
    else:
        rows = [(host, "; ".join(map(str, listed)) or "on its pattern") for host, listed in found.items()]
        click.echo(table(("host", f"beside pattern {pattern}"), rows or [("nobody", "–")]))
    sys.exit(1 if any(found.values()) else 0)


def _by_name(plan: Plan, kind: str, name: str) -> Any:
    found = [r for r in plan.all(kind) if r.name == name]
    if not found:
        raise PlanError([Problem(f"there is no {kind} {name}")])
    return found[0]


def _nics_said(plan: Plan, pattern: str, said: Sequence[str]) -> Iterator[tuple[tuple[str, str], str | None]]:
    """The answers to which NIC is which, as typed: HOST/NAME=NIC."""
    for text in said:
        left, equals, name = text.partition("=")
        host, slash, part = left.partition("/")
        if not (equals and slash and name):
            raise PlanError([Problem(f"“{text}” is no HOST/NAME=NIC")])
        own = _by_name(plan, "host", host).id
        parts = [p for p in plan.where("pattern_nic", "pattern", pattern) if p.name == part]
        there = [n for n in plan.where("nic", "host", own) if n.name == name]
        if not parts or not (there or name == "-"):
            raise PlanError([Problem(f"“{text}”: there is no such NIC")])
        yield (own, parts[0].id), there[0].id if there else None


def _write(path: str, data: bytes) -> None:
    try:
        with open(path, "wb") as file:
            file.write(data)
    except OSError as error:
        _fail(f"{path}: {error.strerror}")


@main.command(
    help="Write a plan’s own segments as a topology (RFC 8345, RFC 8944), or take the networks that another system defines from one."
)
@click.argument("plan_file")
@click.argument("segments", nargs=-1)
@click.option("--take", metavar="FILE", help="take the networks of this topology, and write the plan to -o")
@click.option("--source", "name", help="of which source they are: its name")
@click.option(
    "--pick", "picked", metavar="NETWORK", multiple=True, help="take this one of the new ones (repeatable); else all"
)
@click.option("-o", "--output", help="the file to write")
@click.option("--json", "as_json", is_flag=True, help="what becomes of each network as JSON")
def topology(
    plan_file: str,
    segments: tuple[str, ...],
    take: str | None,
    name: str | None,
    picked: tuple[str, ...],
    output: str | None,
    as_json: bool,
) -> None:
    """Write a topology, or take one."""
    plan = _load(plan_file)
    if take is not None:
        if name is None:
            _fail("whose topology it is has to be said: --source NAME")
        _take_topology(plan, take, name, picked or None, output, as_json)
        return
    try:
        asked = {_named(plan, "segment", segment) for segment in segments} or None
    except PlanError as error:
        _fail(error.problems)
    document, told = topology_of(plan, asked)
    if output is None:
        click.echo(document.decode())
    else:
        _write(output, document)
    for line in told:
        click.echo(line, err=True)


def _take_topology(
    plan: Plan, path: str, name: str, picked: Sequence[str] | None, output: str | None, as_json: bool
) -> None:
    known = next((source for source in plan.all(Source) if source.name == name), None)
    try:
        with open(path, "rb") as file:
            said = read_topology(file.read(), os.path.basename(path))
        source = replace(known, read=moment()) if known is not None else new_source(plan, name, read=moment())
        reading = taken(plan, source, said, picked)
        after = apply_edit(plan, reading.edit)[0]
    except OSError as error:
        _fail(f"{path}: {error.strerror}")
    except PlanError as error:
        _fail(error.problems)
    if as_json:
        _print_json(reading.to_json())
    else:
        click.echo(
            table(("network", "here", "becomes", ""), [(f.network, f.name, f.becomes, f.says) for f in reading.fates])
        )
        for line in reading.told:
            click.echo(line)
    if output is not None:
        _write(output, write_plan(after))


@main.command(help="Which processor cores of hosts serve the receive queues of which NIC, as they would be laid out.")
@click.argument("plan_file")
@click.argument("hosts", nargs=-1)
@click.option("--script", "folder", metavar="FOLDER", help="write the settings of each host as a shell script there")
@click.option("-o", "--output", help="set the NICs so, and write the plan there")
@click.option("--json", "as_json", is_flag=True, help="nodes, cores and NICs as JSON")
def queues(plan_file: str, hosts: tuple[str, ...], folder: str | None, output: str | None, as_json: bool) -> None:
    """Lay out queues."""
    plan = _load(plan_file)
    try:
        asked = [_named(plan, "host", host) for host in hosts] or sorted({n.host for n in plan.all(NumaNode)})
        after = apply_edit(plan, queue_settings(plan, asked))[0]
    except PlanError as error:
        _fail(error.problems)
    said = [queue_plan(plan, host) for host in asked]
    if as_json:
        _print_json(said)
    elif not said:
        click.echo("The plan says of no host which processors it has.")
    else:
        rows = [
            (
                one["name"],
                nic["name"],
                write_processors(nic["laid"]) or "–",
                write_processors(nic["now"]) or "–",
                nic["why"],
            )
            for one in said
            for nic in one["nics"]
        ]
        click.echo(table(("host", "NIC", "served by", "now", ""), rows))
    for host in asked if folder is not None else ():
        _write(
            os.path.join(folder or "", f"{plan.get('host', host).name.replace('/', '-')}.sh"),
            script(after, host).encode(),
        )
    if output is not None:
        _write(output, write_plan(after))


@main.command(help="How full cables get by what flows send, the fullest first, and what each flow gets.")
@click.argument("plan_file")
@click.option(
    "--without",
    metavar="HOST/NIC",
    help="after this has failed: a NIC, a fabric switch, or whatever the table says fills a cable",
)
@click.option("--burst", metavar="FLOW", help="while the greatest burst of this flow lasts")
@click.option("--host", metavar="HOST", help="of which host the readings are")
@click.option("--before", metavar="FILE", help="an earlier reading of ip -statistics -json link there")
@click.option("--after", metavar="FILE", help="a later one")
@click.option("--seconds", type=float, help="how far they lie apart")
@click.option("--towards", default="gateway", help="to whom what was measured is sent: gateway or others")
@click.option("-o", "--output", help="write the plan with what was measured there")
@click.option("--json", "as_json", is_flag=True, help="directions and flows as JSON")
def flows(
    plan_file: str,
    without: str | None,
    burst: str | None,
    host: str | None,
    before: str | None,
    after: str | None,
    seconds: float | None,
    towards: str,
    output: str | None,
    as_json: bool,
) -> None:
    """Tell the load, and take readings."""
    plan = _load(plan_file)
    said: list[str] = []
    if host is not None or before is not None or after is not None:
        if host is None or before is None or after is None or seconds is None:
            _fail("readings need --host, --before, --after and --seconds")
        try:
            ways = [read_counters(_bytes_of(path), os.path.basename(path)) for path in (before, after)]
            reading = measured(plan, _named(plan, "host", host), ways[0], ways[1], seconds, moment(), towards)
            plan = apply_edit(plan, reading.edit)[0]
        except PlanError as error:
            _fail(error.problems)
        said = [*reading.told]
        for nic, out, into in reading.nics:
            said.append(f"{called(plan, plan.get('nic', nic))} carried {out:,.1f} Mbit/s out and {into:,.1f} in")
    load = load_of(judge(plan))
    failure = _failing(load, without) if without is not None else None
    number = None
    if burst is not None:
        number = greatest_burst(load, _named(plan, "flow", burst))
        if number is None:
            _fail(f"{burst} has no bursts that are sent")
    found = load_told(load, failure, number)
    if as_json:
        _print_json({**found, "readings": said})
    else:
        _print_load({**found, "played": bool(failure or number is not None)}, said)
    if output is not None:
        _write(output, write_plan(plan))


def _bytes_of(path: str) -> bytes:
    try:
        with open(path, "rb") as file:
            return file.read()
    except OSError as error:
        _fail(f"{path}: {error.strerror}")


def _failing(load: Load, text: str) -> Failure:
    """What fails, by HOST/NIC, its name, or as the table tells it."""
    for failure in load.failing_now:
        names = {failing(load, failure), failing(load, failure).removeprefix("the ")}
        if failure.kind == "nic":
            nic = load.plan.get("nic", failure.id)
            names.add(f"{load.plan.get('host', nic.host).name}/{nic.name}")
        if text in names or failure_called(load, text) == failure:
            return failure
    _fail(f"nothing goes over “{text}”")


def _print_load(found: dict[str, Any], said: list[str]) -> None:
    """The tables of cables and flows."""
    for line in said:
        click.echo(line)
    if not found["flows"]:
        click.echo("The plan says of nobody what he sends.")
        return

    played = found["played"]

    def share(value: float, speed: int | None) -> str:
        return f"{value / speed:.0%}" if speed else f"{value:,.0f} of ?"

    rows = [
        (
            one["name"],
            f"{one['speed']:,}" if one["speed"] else "not said",
            f"{one['asked']:,.0f}",
            share(one["asked"], one["speed"]),
            *(() if played else (share(one[name], one["speed"]) for name in ("most", "burst", "after"))),
            *(() if played else (one["fails"],)),
        )
        for one in found["directions"]
    ]
    more = () if played else ("worst", "burst", "failure", "of")
    click.echo(table(("cable", "Mbit/s", "asked for", "full", *more), rows))
    click.echo()
    rows = [
        (
            one["name"],
            "burst" if one["burst"] else "",
            str(one["senders"]),
            f"{one['asks']:,.0f}",
            f"{one['gets']:,.0f}",
            f"{one['least']['who']}: {one['least']['gets']:,.0f} of {one['least']['asks']:,.0f}"
            if one["least"]
            else "",
            "; ".join([*one["unsent"], *([f"and {one['more']} more"] if one["more"] else [])]),
        )
        for one in found["flows"]
    ]
    click.echo(table(("flow", "", "senders", "asks", "gets", "least", "not counted"), rows))


@main.command(help="Follow a frame from A to B (host/tap, with |tag for a guest's own tag).")
@click.argument("plan_file")
@click.argument("a")
@click.argument("b")
@click.option("--json", "as_json", is_flag=True, help="the hops as JSON")
def trace(plan_file: str, a: str, b: str, as_json: bool) -> None:
    """Trace a frame."""
    wiring = compile_wiring(_load(plan_file))
    try:
        found = trace_frame(wiring, find_place(wiring, a), find_place(wiring, b))
    except ValueError as error:
        _fail(str(error))
    if as_json:
        _print_json(found.to_json())
    else:
        rows = [
            (str(n), hop.where, hop.before, hop.after, hop.rule, hop.reason or hop.outcome)
            for n, hop in enumerate(found.hops, 1)
        ]
        click.echo(table(("hop", "at", "before", "after", "rule", "outcome"), rows))
        said = "It arrives" if found.delivered else "It does not arrive on layer 2; a router may still carry packets"
        click.echo(f"\n{said} ({found.state}).")
    sys.exit(0 if found.delivered else 1)


@main.command(help="Whether B answers a ping from A (a guest, station, host, host/adapter; B may be an address).")
@click.argument("plan_file")
@click.argument("a")
@click.argument("b")
@click.option("--without", metavar="HOST/NIC", help="with the link of this NIC lost, and in no other state")
@click.option(
    "--on", "service", metavar="tcp/PORT", default="", help="a connection to a port (or udp/PORT), in place of a ping"
)
@click.option("--pcapng", metavar="FILE", help="write the frames of question and answer at every place on their way")
@click.option("--json", "as_json", is_flag=True, help="the answer with its hops as JSON")
def ping(plan_file: str, a: str, b: str, without: str | None, service: str, pcapng: str | None, as_json: bool) -> None:
    """Ping somebody."""
    plan = _load(plan_file)
    try:
        state = State(lost=frozenset([find_nic(plan, without)])) if without else None
        packet = read_packet(service)
        judgement = judge(plan)
        found = ask_ping(judgement, end_of(plan, a), end_of(plan, b), state, packet)
    except PlanError as error:
        _fail(error.problems)
    if pcapng:
        _write(pcapng, capture(plan, found, packet))
    if as_json:
        _print_json({**found.to_json(), "size": told_size(judgement.wiring, found)})
    else:
        for way, title in zip(found.ways, ("there", "back"), strict=False):
            rows = []
            for n, leg in enumerate(way.legs, 1):
                whose = called(plan, plan.find(leg.to)) if leg.to else "–"
                out = called(plan, plan.find(leg.out))
                changed = [
                    f"for {one.to}{f' port {one.port}' if one.port else ''}" for one in way.turned if one.after == n - 1
                ]
                changed += [f"translated to {one.shown}" for one in way.hidden if one.at == leg.out]
                by = ", ".join((leg.by, *changed))
                rows.append((str(n), out, leg.address, whose, by, leg.reason or "passed"))
            click.echo(f"{table((title, 'out of', 'next hop', 'whose', 'why there', 'outcome'), rows)}\n")
        for when, outcome, reason in found.elsewhere:
            click.echo(f"{when}: {outcome}{f', {reason}' if reason else ''}")
        click.echo(" ".join(filter(None, (found.sentence, told_size(judgement.wiring, found)))))
    sys.exit(0 if found.outcome == ANSWERED else 1)


@main.command(
    help="What each interface gets that asks for a lease, or forms IPv6 addresses of what is advertised, and from whom. Exit status 1 where one gets none of its own."
)
@click.argument("plan_file")
@click.option("--json", "as_json", is_flag=True, help="every offer as JSON")
def leases(plan_file: str, as_json: bool) -> None:
    """Who leases what to whom, and who advertises it."""
    judgement = judge(_load(plan_file))
    found = [(id, got) for of in judgement.got for id, got in sorted(of.items())]
    if as_json:
        told = ({id: got.to_json() for id, got in sorted(of.items())} for of in judgement.got)
        _print_json(dict(zip(("leases", "leases6", "formed"), told, strict=True)))
    else:
        plan = judgement.plan
        rows = [(called(plan, plan.find(id)), o.outcome, o.got, o.by(plan), o.reason) for id, o in found]
        click.echo(table(("who", "fares", "gets", "of", "why"), rows or [("nobody asks, or listens", "", "", "", "")]))
    sys.exit(1 if any(got.outcome not in (LEASED, TAKEN) for _, got in found) else 0)


@main.command(help="How each rule of a plan fares, or any other that is asked. Exit status 1 where one is broken.")
@click.argument("plan_file")
@click.option("--ask", metavar="RULE", multiple=True, help="a rule that the plan doesn’t have (repeatable)")
@click.option("--json", "as_json", is_flag=True, help="as JSON")
def rules(plan_file: str, ask: tuple[str, ...], as_json: bool) -> None:
    """Ask the rules."""
    judgement = judge(_load(plan_file))
    look = asked_rules(judgement)
    try:
        found = [(text, look.ask(text)) for text in ask] if ask else [(r.text, a) for r, a in look.rules()]
    except RuleError as error:
        _fail(f"{error} (at character {error.fault.start + 1})")
    if as_json:
        _print_json([{"rule": text, **answer.to_json(judgement.wiring)} for text, answer in found])
    else:
        rows = [(answer.outcome, text, answer.text) for text, answer in found]
        click.echo(table(("fares", "rule", "why"), rows or [("–", "there are no rules", "")]))
    sys.exit(1 if any(answer.outcome == BROKEN for _, answer in found) else 0)


@main.command(
    help="Which segments meet on layer 2, or reach each other over routers, against what the rules expect. Exit status 1 where a pair isn’t as they do."
)
@click.argument("plan_file")
@click.argument("pair", nargs=-1)
@click.option("--roles", "as_roles", is_flag=True, help="roles against each other: of their segments the gravest")
@click.option(
    "--of",
    "ends",
    metavar="NAME",
    multiple=True,
    help="endpoints in place of segments (repeatable): guests, stations, hosts, interfaces, outside networks",
)
@click.option("--json", "as_json", is_flag=True, help="as JSON")
def meetings(plan_file: str, pair: tuple[str, ...], as_roles: bool, ends: tuple[str, ...], as_json: bool) -> None:
    """Who meets whom, segment by segment."""
    judgement = judge(_load(plan_file))
    if ends:
        if pair or as_roles or len(ends) < 2:
            _fail("name two endpoints or more with --of, and nothing else")
        _chosen(judgement, ends, as_json)
    plan, found = judgement.plan, all_meetings(judgement)
    if pair:
        if len(pair) != 2 or as_roles:
            _fail("name two segments, or none; and none with --roles")
        try:
            one, two = (_named(plan, "segment", name) for name in pair)
        except PlanError as error:
            _fail(error.problems)
        told = meeting(judgement).said(one, two) if one != two else []
        letter = found.rows[found.segments.index(one)][found.segments.index(two)]
        if as_json:
            _print_json({"meeting": letter, "found": [t._asdict() for t in told]})
        else:
            click.echo("\n".join([MEETING[letter], *(t.text for t in told)]))
        sys.exit(0)
    of, lines = "segment", by_segment(judgement)
    if as_roles:
        found, of = by_role(plan, found), "role"
        lines = listed(found, [role or "no role" for role in found.segments])
    if as_json:
        _print_json({f"{of}s": found.segments, "rows": found.rows, "expected": found.expected})
    else:
        rows = [[name, *(some(those, 4) or "–" for those in groups)] for name, groups in lines]
        click.echo(table((of, *BY_SEGMENT[1:]), rows or [[f"there are no {of}s", *[""] * 6]]))
    sys.exit(1 if any(groups[-1] for _, groups in lines) else 0)


def _chosen(judgement: Judgement, ends: tuple[str, ...], as_json: bool) -> NoReturn:
    """Print how endpoints stand to each other; exit status 1 where a pair isn't as rules expect."""
    plan = judgement.plan
    try:
        found = chosen(judgement, [end_of(plan, name) for name in ends])
    except PlanError as error:
        _fail(error.problems)
    if as_json:
        _print_json({"ends": found.segments, "rows": found.rows, "expected": found.expected})
    else:
        lines = listed(found, [called(plan, plan.find(id)) for id in found.segments])
        rows = [[name, *(some(those, 4) or "–" for those in groups)] for name, groups in lines]
        click.echo(table(("endpoint", *BY_SEGMENT[1:]), rows))
    sys.exit(1 if any("!" in row for row in found.wrong) else 0)


@main.command(
    help="On which hosts each guest could run, and what one would lack there; or, with --host, where everybody on a host goes when it is taken out. Exit status 1 where"
    " a guest has no other place."
)
@click.argument("plan_file")
@click.argument("guest", required=False)
@click.option("--host", metavar="HOST", help="take this host out")
@click.option("--failed", is_flag=True, help="with --host: it failed, so that nobody need go while running")
@click.option("--json", "as_json", is_flag=True, help="as JSON")
def moves(plan_file: str, guest: str | None, host: str | None, failed: bool, as_json: bool) -> None:
    """Where guests can run."""
    judgement = judge(_load(plan_file))
    try:
        if host is not None:
            done = _cleared(judgement, _named(judgement.plan, "host", host), failed, as_json)
        elif guest is not None:
            done = _moves_of(judgement, _named(judgement.plan, "guest", guest), as_json)
        else:
            done = _all_moves(judgement, as_json)
    except PlanError as error:
        _fail(error.problems)
    sys.exit(0 if done else 1)


def _named(plan: Plan, kind: str, name: str) -> str:
    """The id of the record of a kind that somebody means by its id or name."""
    if name in plan.of(kind):
        return name
    found = [record.id for record in plan.where(kind, "name", name)]
    if len(found) != 1:
        says = f"is the name of several; use an id: {some(sorted(found), 6)}" if found else "is nobody’s name"
        raise PlanError([Problem(f"“{name[:80]}” {says}", kind=kind)])
    return str(found[0])


def _all_moves(judgement: Judgement, as_json: bool) -> bool:
    """Print where each guest could run; whether each has another place."""
    if as_json:
        found = moving(judgement).all()
        _print_json({"hosts": found.hosts, "guests": {guest: found.rows[row] for guest, row in found.row_of.items()}})
    listed = by_guest(judgement)
    if not as_json:
        rows = [[name, host, *(some(of, 4) or "–" for of in groups)] for name, host, groups in listed]
        click.echo(table(BY_GUEST, rows or [["there are no guests", *[""] * 6]]))
    return all(any(groups[:3]) for _, _, groups in listed)


def _moves_of(judgement: Judgement, guest: str, as_json: bool) -> bool:
    """Print how one guest would fare on each host; whether it has another place."""
    known, plan = moving(judgement), judgement.plan
    found = [
        (host, letter, known.reasons(guest, host))
        for host, letter in zip(known.fitness.hosts, known.letters(guest), strict=True)
        if host != plan.get("guest", guest).host
    ]
    if as_json:
        _print_json([{"host": h, "fares": c, "reasons": [r.to_json() for r in why]} for h, c, why in found])
    else:
        rows = [
            (plan.get("host", host).name if not n else "", FARES[letter] if not n else "", text)
            for host, letter, why in found
            for n, text in enumerate([reason.text for reason in why] or [""])
        ]
        click.echo(table(("host", "fares", "why"), rows or [("there is no other host", "", "")]))
    return any(letter in RUNS + COLD + LESS for _, letter, _ in found)


def _cleared(judgement: Judgement, host: str, failed: bool, as_json: bool) -> bool:
    """Print where everybody on a host goes; whether all have a place."""
    plan, found = judgement.plan, clear(judgement, host, failed)
    worse = found.worse(judgement)
    if as_json:
        said = {"places": [p.__dict__ for p in found.places], "left": [left.__dict__ for left in found.left]}
        _print_json({**said, "worse": worse})
    else:
        rows = [(plan.get("guest", p.guest).name, plan.get("host", p.host).name, FARES[p.letter]) for p in found.places]
        rows += [(plan.get("guest", left.guest).name, "–", " ".join(left.why)) for left in found.left]
        click.echo(table(("guest", "goes to", "fares"), rows or [("nobody is on it", "", "")]))
        if worse:
            names = some([called(plan, plan.find(id)) for id in worse], 6)
            click.echo(f"\nOnce all have moved, these fare worse than now: {names}")
    return not found.left


@main.command(help="Who receives a broadcast from each adapter and tag.")
@click.argument("plan_file")
@click.option("--without", metavar="HOST/NIC", help="with the link of this NIC lost")
@click.option(
    "--ask", metavar="HOST/TAP|TAG", multiple=True, help="ask another tag too (repeatable; host/tap| is untagged)"
)
@click.option("--json", "as_json", is_flag=True, help="as JSON: sender to receivers")
def hears(plan_file: str, without: str | None, ask: tuple[str, ...], as_json: bool) -> None:
    """Who hears whom."""
    try:
        found = who_hears(_load(plan_file), without, ask)
    except PlanError as error:
        _fail(error.problems)
    if as_json:
        _print_json(found)
    else:
        click.echo(
            table(("a broadcast from", "is heard by"), [(k, ", ".join(v) or "nobody") for k, v in found.items()])
        )


@main.command(help=f"Hosts in cross-section as a drawing (SVG): those named, or all of them, at most {MOST_HOSTS}.")
@click.argument("plan_file")
@click.argument("hosts", nargs=-1)
@click.option("--svg", metavar="FILE", required=True, help="where it is written")
def decks(plan_file: str, hosts: tuple[str, ...], svg: str) -> None:
    """Hosts as a drawing."""
    plan = _load(plan_file)
    named = {host.name: host for host in plan.all(Host)}
    unknown = [name for name in hosts if name not in named]
    if unknown:
        _fail(f"there is no host {some([f'“{name}”' for name in unknown])}")
    chosen = [named[name] for name in hosts or named]
    if len(chosen) > MOST_HOSTS:
        _fail(f"{len(chosen)} hosts are too many for a drawing; name at most {MOST_HOSTS}")
    _write(svg, decks_svg(judge(plan), chosen, plan.name).encode())


@main.command(help="One segment alone: its strand as a tree, every break, and every place where it could be overheard.")
@click.argument("plan_file")
@click.argument("segment")
@click.option("--json", "as_json", is_flag=True, help="as JSON: the lines of the tree, and what is beyond it")
@click.option("--svg", metavar="FILE", help="write it as a drawing")
def strand(plan_file: str, segment: str, as_json: bool, svg: str | None) -> None:
    """A segment alone."""
    judgement = judge(_load(plan_file))
    plan = judgement.plan
    named = next((s for s in plan.all(Segment) if segment in (s.id, s.name, str(s.vid))), None)
    if named is None:
        _fail(f"there is no segment “{segment}”; it is asked for by its name, VID or id")
    found = alone(judgement, named)
    ears = [*(ear for knot in found.knots for ear in knot.ears), *found.beyond]
    broken = [b for knot in found.knots for b in knot.breaks]
    if svg is not None:
        _write(svg, strand_svg(plan, found, f"{named.name} alone").encode())
    if as_json:
        _print_json(found.to_json())
    else:
        for knot in found.knots:
            name = " – ".join(called(plan, plan.find(record)) for record in knot.records)
            word = {RESERVE: " (reserve)", DROPPED: " (cut off)"}.get(knot.state, "")
            click.echo(f"{'  ' * knot.depth}{name}{word}{' (drawn elsewhere too)' if knot.again else ''}")
            for said in (*(f"✕ {b.reason}" for b in knot.breaks), *(f"? {e.text}" for e in knot.ears)):
                click.echo(f"{'  ' * knot.depth}  {said}")
        for ear in found.beyond:
            click.echo(f"? {ear.text}")
        click.echo(f"\nbreaks: {len(broken)}, places where it is or could be overheard: {len(ears)}")
    sys.exit(1 if ears or broken else 0)


@main.command(
    help="One cable alone, by either end (host/nic or switch/port): what it carries, who needs it, what a tap would read."
)
@click.argument("plan_file")
@click.argument("end")
@click.option("--json", "as_json", is_flag=True, help="as JSON")
def cable(plan_file: str, end: str, as_json: bool) -> None:
    """A cable alone."""
    judgement = judge(_load(plan_file))
    plan = judgement.plan
    found = next((c for c in plan.all(Cable) if end in (_end(plan, c.a), _end(plan, c.b))), None)
    if found is None:
        _fail(f"there is no cable at “{end}”; ends are named host/nic or switch/port")
    rows = needs(judgement).carried(found)
    if as_json:
        _print_json([row.to_json() for row in rows])
    else:
        head = (
            f"on {_end(plan, found.a)} – {_end(plan, found.b)}",
            "there",
            "back",
            "need",
            "at either end",
            "a tap reads",
        )
        told = [(r.vids or "untagged", r.there, r.back, r.need, f"{r.near} and {r.far}", str(r.reads)) for r in rows]
        click.echo(table(head, told))
    sys.exit(1 if any(row.need in (SPARE, LACKING) for row in rows) else 0)


def _end(plan: Plan, id: str) -> str:
    port = plan.of("fabric_port").get(id)
    return (
        f"{plan.get('fabric_switch', port.switch).name}/{port.name}"
        if port is not None
        else endpoint_key(plan, plan.get("nic", id))
    )


@main.command(
    help="Whom guests could hear or reach by tagging their frames as they like; for one adapter, with which tags."
)
@click.argument("plan_file")
@click.argument("adapter", required=False)
@click.option("--json", "as_json", is_flag=True, help="as JSON: adapter to segments, or tags to endpoints")
def could(plan_file: str, adapter: str | None, as_json: bool) -> None:
    """What guests could do."""
    judgement = judge(_load(plan_file))
    plan = judgement.plan
    if adapter is None:
        found = {endpoint_key(plan, plan.get("adapter", id)): s for id, s in all_could(judgement).all().items()}
        made = {key: [plan.get("segment", s).name for s in listed] for key, listed in sorted(found.items())}
        head = ("adapter", "could hear or reach")
    else:
        try:
            place = find_place(judgement.wiring, adapter)
        except ValueError as error:
            _fail(str(error))
        reached = exactly(judgement, place.endpoint)
        made = {f"{adapter}|{tags}": [spoken(plan, r) for r in records] for tags, records in reached.items()}
        head = ("a frame from", "is taken by")
    if as_json:
        _print_json(made)
    else:
        click.echo(table(head, [(key, ", ".join(listed)) for key, listed in made.items()] or [("nobody", "–")]))
    sys.exit(1 if made else 0)


if __name__ == "__main__":
    main()
