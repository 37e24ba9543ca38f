"""Loads a plan file under its name, unless a plan of that name is there, with the marks and drafts that go along with it, and makes the demo's people,
unless they are."""

from __future__ import annotations

import json
import os
import secrets
from pathlib import Path
from typing import Any

from aptwire.plan.edits import edit_from_json
from aptwire.plan.file import read_plan
from django.contrib.auth.models import User
from django.core.management.base import BaseCommand, CommandParser

from aptwire_server.plans.branches import begin
from aptwire_server.plans.commits import commit, create_plan
from aptwire_server.plans.models import Mark, PlanRow

PEOPLE = ("ines", "tomas")


class Command(BaseCommand):
    """`manage.py load_demo FILE [--along FILE] --passwords FILE`: whoever is made gets a password at random, which that file keeps for its owner
    alone."""

    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--along", type=Path, help="JSON: marks and drafts for it")
        parser.add_argument("--passwords", type=Path, required=True)

    def handle(self, *args: Any, **options: Any) -> None:
        missing = [name for name in PEOPLE if not User.objects.filter(username=name).exists()]
        made = {name: secrets.token_urlsafe(9) for name in missing}
        if made:
            _write(options["passwords"], made)
        for name, word in made.items():
            User.objects.create_user(name, password=word)
        plan = read_plan(options["file"].read_bytes(), options["file"].name)
        if not PlanRow.objects.filter(name=plan.name).exists():
            row = create_plan(plan, User.objects.get(username=PEOPLE[0]))
            if options["along"] is not None:
                _along(row, json.loads(options["along"].read_text()))
            self.stdout.write(f"{plan.name} loaded")


def _along(row: PlanRow, along: dict[str, Any]) -> None:
    """The marks and drafts of a plan that is new."""
    people = {user.get_username(): user for user in User.objects.filter(username__in=PEOPLE)}
    for mark in along["marks"]:
        Mark.objects.create(plan=row, revision=mark["revision"], name=mark["name"], author=people[mark["by"]])
    for draft in along["drafts"]:
        by = people[draft["by"]]
        made = begin(row, by, draft["name"], private=False)
        for number, edit in enumerate(draft["edits"]):
            commit(made.pk, by, edit_from_json(edit["edit"]), number, edit["message"])


def _write(path: Path, made: dict[str, str]) -> None:
    """The passwords of before and these, written before anybody has them, so that none is lost."""
    kept = json.loads(path.read_text()) if path.is_file() else {}
    fresh = path.with_suffix(".part")
    fresh.unlink(missing_ok=True)
    with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as file:
        json.dump({**kept, **made}, file, indent=1)
    fresh.replace(path)
