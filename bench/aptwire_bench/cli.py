"""The bench in a terminal: ./run bench PLAN.  Exit status 0 all agreed, 1 differences, 2 it could not be asked."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any, NoReturn

import click
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.plan import Plan, PlanError

from aptwire_bench.kernel import BenchError, Kernel
from aptwire_bench.prove import STORIES, Report, Scope, prove, read_back


@click.command(help="Build a plan in a disposable kernel, send frames, and hold what they do against the engine.")
@click.argument("plan_file", type=click.Path(exists=True, dir_okay=False))
@click.option("--json", "as_json", is_flag=True, help="the report as JSON")
@click.option("--pull", "cables", multiple=True, metavar="CABLE", help="pull this cable too (its id); may be repeated")
@click.option("--pulls", default=4, show_default=True, help="how many cables are pulled where none is named")
@click.option("--sample", default=40, show_default=True, help="senders asked beside one of each kind that is alike")
@click.option("--seed", default=1, show_default=True, help="chooses the sample, the tags and the cables")
@click.option("--save", type=click.Path(file_okay=False), help="a folder for differences: smallest plans, pcap files")
@click.option(
    "--state", type=click.Path(file_okay=False), help="a folder for the state of what was built, as ./run read takes it"
)
def main(
    plan_file: str,
    as_json: bool,
    cables: tuple[str, ...],
    pulls: int,
    sample: int,
    seed: int,
    save: str | None,
    state: str | None,
) -> None:
    """Prove a plan."""
    try:
        plan = read_plan(Path(plan_file).read_bytes(), Path(plan_file).name)
    except PlanError as error:
        _fail("\n".join(f"error: {problem}" for problem in error.problems))
    for cable in cables:
        if cable not in plan.of("cable"):
            _fail(f"error: there is no cable “{cable}” in the plan")
    try:
        report = prove(
            plan,
            Scope(sample=sample, pulls=pulls, cables=cables, seed=seed),
            None if as_json else _progress,
            STORIES,
        )
        if state:
            _keep(Path(state), plan)
    except BenchError as error:
        _fail(f"error: {error}")
    if save:
        _save(Path(save), report)
    if as_json:
        click.echo(json.dumps(report.to_json(plan), ensure_ascii=False, indent=1))
    else:
        _print(plan, report)
    sys.exit(1 if report.differed else 0)


def _fail(text: str) -> NoReturn:
    click.echo(text, err=True)
    sys.exit(2)


def _progress(what: str, done: int, of: int) -> None:
    if sys.stderr.isatty():
        click.echo(f"\r{what}: {done} of {of}    ", nl=False, err=True)


def _keep(folder: Path, plan: Plan) -> None:
    """The state of the built devices, and the LLDP that they heard."""
    with Kernel() as kernel:
        files = read_back(kernel, plan)
    for name, raw in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(raw)


def _save(folder: Path, report: Report) -> None:
    """Each story as the smallest plan that still differs and the frames at each port."""
    for number, story in enumerate(report.stories, 1):
        at = folder / f"difference-{number}"
        at.mkdir(parents=True, exist_ok=True)
        (at / "plan.json").write_bytes(write_plan(story.smallest))
        (at / "difference.json").write_text(json.dumps(story.difference, ensure_ascii=False, indent=1) + "\n")
        for name, raw in story.frames.items():
            (at / f"{name}.pcap").write_bytes(raw)


def _print(plan: Plan, report: Report) -> None:
    if sys.stderr.isatty():
        click.echo("\r", nl=False, err=True)
    made: dict[str, Any] = report.to_json(plan)
    click.echo(
        f"{made['questions']} questions: {made['asked']} asked, {made['agreed']} agreed, {made['differed']} differed, "
        f"{made['not_tried']} not tried"
    )
    click.echo(f"asked in {len(report.situations)} situations: {'; '.join(report.situations)}")
    for left in made["not_built"]:
        click.echo(f"not built: {left['reason']}")
    for found in made["differences"][:20]:
        click.echo(f"\ndiffers: {found['text']}")
        for side, key in (("engine", "only_engine"), ("kernel", "only_kernel")):
            if found[key]:
                click.echo(f"  only the {side} says it is heard by {', '.join(found[key])}")
    for story in made["stories"]:
        click.echo(f"\nboth stories of: {story['text']} (in a plan cut down to {story['smallest']} records)")
        for name in ("engine", "kernel"):
            click.echo(f"  {name}:")
            for line in story[name]:
                click.echo(f"    {line}")
    seconds = made["seconds"]
    click.echo(f"\n{seconds['together']} s, of which building {seconds['built']} s and asking {seconds['asked']} s")


if __name__ == "__main__":
    main()
