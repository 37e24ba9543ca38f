"""Loads a plan file under its name, unless a plan of that name is there, and makes the demo's people."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from aptwire.plan.file import read_plan
from django.contrib.auth.models import User
from django.core.management.base import BaseCommand, CommandParser

from aptwire_server.plans.commits import create_plan
from aptwire_server.plans.models import PlanRow

PEOPLE = ("ines", "tomas")


class Command(BaseCommand):
    """`manage.py load_demo FILE --password WORD`."""

    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--password", required=True)

    def handle(self, *args: Any, **options: Any) -> None:
        users = User.objects
        people = [users.filter(username=name).first() or users.create_user(name) for name in PEOPLE]
        for person in people:
            if not person.check_password(options["password"]):
                person.set_password(options["password"])
                person.save()
        plan = read_plan(options["file"].read_bytes(), options["file"].name)
        if not PlanRow.objects.filter(name=plan.name).exists():
            create_plan(plan, people[0])
            self.stdout.write(f"{plan.name} loaded")
