"""Lists of addresses, subnets, gateways and services become JSON: PostgreSQL takes many such rows at once much quicker."""

from django.db import migrations, models

COLUMNS = [
    ("segment", "subnets"),
    ("segment", "gateways"),
    ("nic", "addresses"),
    ("host_port", "addresses"),
    ("host_port", "services"),
    ("adapter", "addresses"),
    ("guest_tag", "addresses"),
    ("station_port", "addresses"),
]


def changed(kind: str, column: str) -> migrations.SeparateDatabaseAndState:
    """The column as JSON, what stands in it kept."""
    sql = f"ALTER TABLE record_{kind} ALTER COLUMN {column} TYPE jsonb USING to_jsonb({column})"
    model = kind.replace("_", "") + "row"
    return migrations.SeparateDatabaseAndState(
        database_operations=[migrations.RunSQL(sql)],
        state_operations=[migrations.AlterField(model, column, models.JSONField(default=list))],
    )


class Migration(migrations.Migration):
    dependencies = [("plans", "0003_bench_runs")]
    operations = [changed(kind, column) for kind, column in COLUMNS]
