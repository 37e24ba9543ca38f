"""One direction: the server imports the core, never the other way; only the command line touches files."""

from __future__ import annotations

import ast
import sys
import unittest
from collections.abc import Iterator
from pathlib import Path

from tests.support import ROOT

CORE_MAY = {"aptwire", "numpy", "openpyxl", "scipy", "jsonschema_rs", "click", "lark"}
SERVER_MAY = {
    "orjson",
    "aptwire",
    "aptwire_server",
    "django",
    "rest_framework",
    "drf_spectacular",
    "psycopg",
    "asgiref",
    "aptwire_bench",
    "procrastinate",
}
BENCH_MAY = {"aptwire", "aptwire_bench", "click"}
IN_MEMORY = {"BytesIO", "StringIO"}
OUTSIDE = {"os", "io", "pathlib", "shutil", "socket", "subprocess", "tempfile", "urllib", "http"}


def imported(path: Path) -> Iterator[str]:
    """The top names of everything that a file imports."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (alias.name.split(".")[0] for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and not {alias.name for alias in node.names} <= IN_MEMORY:
            yield (node.module or "").split(".")[0]


class DirectionTest(unittest.TestCase):
    def foreign(self, folder: str, allowed: set[str]) -> list[str]:
        files = sorted((ROOT / folder).rglob("*.py"))
        self.assertTrue(files)
        return [
            f"{path.relative_to(ROOT)} imports {name}"
            for path in files
            for name in imported(path)
            if name not in allowed and name not in sys.stdlib_module_names
        ]

    def test_the_core_knows_of_no_server(self) -> None:
        self.assertEqual(self.foreign("core/aptwire", CORE_MAY), [])

    def test_the_server_imports_the_core_and_its_framework_only(self) -> None:
        self.assertEqual(self.foreign("server/aptwire_server", SERVER_MAY), [])

    def test_the_bench_knows_the_core_only_and_its_agent_nothing(self) -> None:
        self.assertEqual(self.foreign("bench", BENCH_MAY), [])
        agent = ROOT / "bench" / "aptwire_bench" / "agent.py"
        self.assertEqual([n for n in imported(agent) if n not in sys.stdlib_module_names], [])

    def test_only_the_command_line_of_the_core_touches_files(self) -> None:
        found = []
        for path in sorted((ROOT / "core" / "aptwire").rglob("*.py")):
            if path.name == "cli.py":
                continue
            found += [f"{path.name} imports {name}" for name in imported(path) if name in OUTSIDE]
            calls = (n for n in ast.walk(ast.parse(path.read_text())) if isinstance(n, ast.Call))
            found += [
                f"{path.name} opens a file" for n in calls if isinstance(n.func, ast.Name) and n.func.id == "open"
            ]
        self.assertEqual(found, [])

    def test_the_front_end_talks_to_the_server_over_http_only(self) -> None:
        for path in (ROOT / "web" / "src").rglob("*.ts*"):
            for line in path.read_text().splitlines():
                if line.startswith("import") and '"../../' in line:
                    self.fail(f"{path.name} reaches out of the front end: {line}")


if __name__ == "__main__":
    unittest.main()
