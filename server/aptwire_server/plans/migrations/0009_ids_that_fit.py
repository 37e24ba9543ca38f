"""Ids that no plan file may hold: hosts were read of folders whose names became ids as they were.  They get ids that fit, names stay."""

from typing import Any

from aptwire.plan.ids import is_id, make_id
from aptwire.plan.kinds import SPECS
from django.db import connection, migrations, models, transaction

from aptwire_server.plans.models import key_of

FITS = r"^[A-Za-z0-9][A-Za-z0-9._:/@-]{0,119}$"


@transaction.atomic
def mend(apps: Any, schema_editor: Any) -> None:
    """Give each record whose id doesn't fit another one, in the tables and in the revisions that speak of it."""
    rows = [model for model in apps.get_app_config("plans").get_models() if model._meta.db_table.startswith("record_")]
    moved: dict[Any, Any] = {}
    plans = set()
    for model in rows:
        for key, plan, rid in model.objects.exclude(rid__regex=FITS).values_list("key", "plan_id", "rid"):
            moved[key] = key_of(plan, make_id(rid))
            model.objects.filter(key=key).update(key=moved[key], rid=make_id(rid))
            plans.add(plan)
    for model in rows if moved else ():
        for field in model._meta.get_fields():
            if isinstance(field, models.ForeignKey) and field.related_model in rows:
                for old, new in moved.items():
                    model.objects.filter(**{field.attname: old}).update(**{field.attname: new})
    # A record that is gone again stands in revisions alone, and an undo would bring it back.
    revisions = apps.get_model("plans", "Revision")
    for revision in revisions.objects.order_by("pk").iterator(chunk_size=200):
        edits = [_renamed(edit) for edit in (revision.edit, revision.inverse)]
        if edits != [revision.edit, revision.inverse]:
            revisions.objects.filter(pk=revision.pk).update(edit=edits[0], inverse=edits[1])
    if moved:
        # Checked here, and not at the end, so that what is wrong is said of this step.
        with connection.cursor() as cursor:
            cursor.execute("SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED")


def _renamed(edit: Any) -> Any:
    return [_operation(operation) for operation in edit]


def _operation(operation: Any) -> Any:
    refs = [name for name, spec in SPECS.get(operation["kind"], {}).items() if spec.kind == "ref"]
    made = dict(operation)
    if "id" in made:
        made["id"] = _fitting(made["id"])
    for part in ("record", "set"):
        if part in made:
            inner = made[part] = dict(made[part])
            for name in ("id", *refs):
                if name in inner:
                    inner[name] = _fitting(inner[name])
    return made


def _fitting(id: Any) -> Any:
    return make_id(id) if isinstance(id, str) and not is_id(id) else id


class Migration(migrations.Migration):
    dependencies = [("plans", "0008_guesses")]
    operations = [migrations.RunPython(mend, migrations.RunPython.noop)]
