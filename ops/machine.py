"""What the project needs on a machine: Debian packages, a virtual environment, Node.js, the built front end."""

from __future__ import annotations

import ctypes
import hashlib
import json
import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
DATA = ROOT / ".data"
VENV = ROOT / ".venv"
WEB = ROOT / "web"
PYTHON = VENV / "bin" / "python"
LOWEST_NODE = 20


class SetupError(Exception):
    """Something that is needed can't be had; the text says what to do."""


def say(text: str) -> None:
    """A line for the person who started this."""
    print(f"· {text}", flush=True)


def command(arguments: list[str | Path], what: str, **more: object) -> None:
    """Run a step of the set-up; when it fails, show what it printed."""
    done = subprocess.run([str(a) for a in arguments], text=True, capture_output=True, **more)  # type: ignore[call-overload]
    if done.returncode:
        tail = "\n".join((done.stdout + done.stderr).strip().splitlines()[-30:])
        raise SetupError(f"{what} failed:\n{tail}")


def environment(**more: str) -> dict[str, str]:
    """The environment of everything that is started from here."""
    paths = f"{VENV / 'bin'}{os.pathsep}{os.environ.get('PATH', '')}"
    base = {k: v for k, v in os.environ.items() if k not in ("PYTHONHOME", "DJANGO_SETTINGS_MODULE")}
    return {
        **base,
        "PATH": paths,
        "PYTHONPATH": os.pathsep.join(str(p) for p in (ROOT / "core", ROOT / "server", ROOT / "bench", ROOT)),
        **more,
    }


def die_with_parent() -> None:
    """In a child, before it starts: end when the parent does, even when that is killed (prctl, Linux)."""
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)


def debian(wanted: dict[str, Callable[[], bool]]) -> None:
    """Install the packages whose test says that they are missing."""
    missing = [package for package, there in wanted.items() if not there()]
    if not missing:
        return
    if os.geteuid() != 0 or shutil.which("apt-get") is None:
        raise SetupError(
            f"these Debian packages are missing, and only root on Debian can install them: {' '.join(missing)}"
        )
    say(f"installing {', '.join(missing)} (Debian packages)")
    quiet = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    command(["apt-get", "update", "-qq"], "apt-get update", env=quiet)
    command(["apt-get", "install", "-y", "-qq", "--no-install-recommends", *missing], "apt-get install", env=quiet)


def bench() -> None:
    """The bench's kernel and what builds in it; a machine that can't have them runs everything else."""
    try:
        debian(
            {
                "user-mode-linux": lambda: _program("linux.uml"),
                "iproute2": lambda: _program("bridge"),
                "kmod": lambda: _program("modprobe"),
                "lldpd": lambda: _program("lldpd"),
                "dnsmasq-base": lambda: _program("dnsmasq"),
                "radvd": lambda: _program("radvd"),
                "iptables": lambda: _program("iptables-legacy-restore"),
            }
        )
    except SetupError as error:
        say(f"without the bench: {error}")


def _program(name: str) -> bool:
    return shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin") is not None


def _stamp(name: str) -> Path:
    return DATA / f"{name}.stamp"


def _digest(paths: Iterable[Path]) -> str:
    made = hashlib.sha256()
    for path in sorted(paths):
        made.update(str(path.relative_to(ROOT)).encode() + b"\0" + path.read_bytes() + b"\0")
    return made.hexdigest()


def once(name: str, digest: str, there: bool, make: Callable[[], None]) -> None:
    """Do a step unless it was finished for this very input; a half-finished one is done again."""
    DATA.mkdir(exist_ok=True)
    stamp = _stamp(name)
    if there and stamp.is_file() and stamp.read_text() == digest:
        return
    stamp.unlink(missing_ok=True)
    make()
    stamp.write_text(digest)


def virtual_environment() -> None:
    """The virtual environment with the locked Python packages that the product runs on."""

    def make() -> None:
        if VENV.exists() and not PYTHON.is_file():
            say("the virtual environment is half-finished: making it anew")
        if not PYTHON.is_file() or subprocess.run([PYTHON, "-m", "pip", "--version"], capture_output=True).returncode:
            shutil.rmtree(VENV, ignore_errors=True)
            if subprocess.run([sys.executable, "-c", "import ensurepip, venv"], capture_output=True).returncode:
                debian({"python3-venv": lambda: False})
            command([sys.executable, "-m", "venv", VENV], "making the virtual environment")
        _pip("requirements.txt")

    once("python", _digest([ROOT / "requirements.txt"]) + sys.version, PYTHON.is_file(), make)


def test_tools() -> None:
    """The virtual environment with the packages that check, test and measure besides."""
    virtual_environment()
    locks = [ROOT / "requirements.txt", ROOT / "requirements-test.txt"]
    there = (VENV / "bin" / "ruff").is_file()
    once("test-tools", _digest(locks) + sys.version, there, lambda: _pip("requirements-test.txt"))


def _pip(lock: str) -> None:
    """Install what a lock file names, and nothing whose hash it doesn't know."""
    say(f"installing the Python packages of {lock}")
    arguments: list[str | Path] = [PYTHON, "-m", "pip", "install", "-q", "--disable-pip-version-check"]
    command([*arguments, "--require-hashes", "-r", ROOT / lock], f"pip install of {lock}")


def node() -> dict[str, str]:
    """The environment in which npm runs: the machine's Node.js, or one from PyPI in the virtual environment."""
    env = environment()
    if _node_version(env) < LOWEST_NODE:
        say(f"Node.js {LOWEST_NODE} or newer is missing: taking it from PyPI")
        _pip("requirements-node.txt")
        if _node_version(env) < LOWEST_NODE:
            raise SetupError("Node.js from PyPI doesn't start on this machine")
    return env


def _node_version(env: dict[str, str]) -> int:
    # npm must be there too: Debian ships the two apart.
    if not (shutil.which("node", path=env["PATH"]) and shutil.which("npm", path=env["PATH"])):
        return 0
    said = subprocess.run(["node", "--version"], env=env, text=True, capture_output=True).stdout
    found = re.match(r"v(\d+)\.", said)
    return int(found[1]) if found else 0


def node_modules() -> None:
    """The locked npm packages."""
    lock = WEB / "package-lock.json"

    def make() -> None:
        say("installing the npm packages of package-lock.json")
        command(["npm", "ci", "--no-audit", "--no-fund", "--loglevel=error"], "npm ci", cwd=WEB, env=node())

    once("npm", _digest([lock]), (WEB / "node_modules").is_dir(), make)


def front_end() -> None:
    """The built front end, with the API's types generated first."""
    api_types()
    sources = [p for p in (WEB / "src").rglob("*") if p.is_file()]
    sources += [WEB / name for name in ("index.html", "package-lock.json", "vite.config.ts", "tsconfig.json")]

    def make() -> None:
        say("building the front end")
        command(["npm", "run", "build", "--silent"], "the build of the front end", cwd=WEB, env=node())

    once("web", _digest(sources), (WEB / "dist" / "index.html").is_file(), make)


def api_types() -> None:
    """The OpenAPI document from the server's code, and the TypeScript types from that."""
    node_modules()
    types, kinds = (WEB / "src" / "api" / name for name in ("schema.ts", "kinds.ts"))
    inputs = [*(ROOT / "server").rglob("*.py"), *(ROOT / "core").rglob("*.py"), WEB / "package-lock.json"]

    def make() -> None:
        document = DATA / "openapi.json"
        env = environment(
            APTWIRE_SECRET="only for writing the document", DJANGO_SETTINGS_MODULE="aptwire_server.settings"
        )
        arguments: list[str | Path] = [PYTHON, ROOT / "server" / "manage.py", "spectacular", "--format", "openapi-json"]
        command([*arguments, "--fail-on-warn", "--file", document], "writing the OpenAPI document", env=env)
        before = json.loads(document.read_text())
        document.write_text(json.dumps(before, indent=1))
        generate: list[str | Path] = ["npx", "openapi-typescript", document, "-o", types]
        # A field that may be left away stays one, though the document says what that means.
        command([*generate, "--default-non-nullable=false"], "generating the API's types", cwd=WEB, env=node())
        kinds.write_text(_kinds(before["components"]["schemas"]))

    once("types", _digest([*inputs, Path(__file__)]), types.is_file() and kinds.is_file(), make)


def _kinds(schemas: dict[str, Any]) -> str:
    """What the document says of each kind's fields, as a TypeScript value: options, bounds, and what is meant where one is left away."""
    found: dict[str, dict[str, dict[str, Any]]] = {}
    for name, schema in schemas.items():
        if name.startswith("record_"):
            fields = {field: said for field, said in schema["properties"].items() if field != "id"}
            words = {
                "enum": "options",
                "minimum": "least",
                "maximum": "most",
                "default": "unless",
            }
            found[name.removeprefix("record_")] = {
                field: {word: said[key] for key, word in words.items() if key in said} for field, said in fields.items()
            }
    head = "// Written from the OpenAPI document by the build; don't edit."
    return f"{head}\nexport const SPECS = {json.dumps(found, indent=1)} as const;\n"
