"""Writes docs/plan.schema.json and the tables of docs/plan-format.md from the record kinds."""

from __future__ import annotations

import json
import pathlib
import sys

DOCS = pathlib.Path(__file__).resolve().parent
sys.path.insert(0, str(DOCS.parent / "core"))

from aptwire.plan.fields import Spec  # noqa: E402
from aptwire.plan.file import schema  # noqa: E402
from aptwire.plan.kinds import KINDS, SPECS  # noqa: E402

MARK = "<!-- the tables below are written by ./run schema -->"


def holds(spec: Spec) -> str:
    """What a field may hold, in words."""
    said = {
        "text": f"text, up to {spec.high} characters",
        "number": f"whole number, {spec.low} to {spec.high}",
        "flag": "true or false",
        "choice": ", ".join(f"`{o}`" for o in spec.options),
        "vid": f"VID, {0 if spec.untagged else 1} to 4094",
        "vids": "VID set" + (", 0 for untagged" if spec.untagged else ""),
        "processors": "set of processors, such as `2-5, 18`",
        "cores": "cores with their threads, such as `0+16, 1+17`",
        "ref": f"id of a {' or '.join(f'`{r}`' for r in spec.refs)}",
        "mac": "MAC address",
        "ip": "IP address",
        "subnet": "subnet",
        "date": "date, such as 2027-03-31",
        "addresses": "list of addresses with prefix length",
        "subnets": "list of subnets",
        "ips": "list of IP addresses",
        "ranges": "list of ranges of addresses",
        "purposes": "list of ranges of addresses, each behind `static`, `leases` or `reserved`",
        "kept": "list of MAC addresses, each with its address",
        "words": "list of words",
    }[spec.kind]
    return said


def default(kind: str, name: str) -> str:
    """What an absent field means."""
    field = KINDS[kind].__dataclass_fields__[name]
    if type(field.default).__name__ == "_MISSING_TYPE":
        return "required"
    if field.default in (None, "", ()):
        return "absent"
    return f"`{json.dumps(field.default)}`"


def tables() -> str:
    """One table for each kind."""
    made = []
    for kind, cls in KINDS.items():
        made.append(f"### `{kind}`\n\n{(cls.__doc__ or '').strip()}\n")
        made.append("| field | holds | unless said | |\n|---|---|---|---|")
        made += [f"| `{n}` | {holds(s)} | {default(kind, n)} | {s.help} |" for n, s in SPECS[kind].items()]
        unique = ", ".join(" + ".join(f"`{n}`" for n in names) for names in cls.unique)
        made.append(f"\nUnique: {unique}.\n" if unique else "")
    return "\n".join(made)


if __name__ == "__main__":
    (DOCS / "plan.schema.json").write_text(json.dumps(schema(), indent=1, ensure_ascii=False) + "\n")
    page = DOCS / "plan-format.md"
    page.write_text(page.read_text().split(MARK)[0] + MARK + "\n\n" + tables())
    print("docs/plan.schema.json and docs/plan-format.md written")
