"""Database and web server together, for the demo, the tests and the screenshots."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import secrets
import signal
import socket
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from ops import database
from ops.machine import (
    DATA,
    PYTHON,
    ROOT,
    SetupError,
    bench,
    command,
    die_with_parent,
    environment,
    front_end,
    say,
    virtual_environment,
)
from ops.parts import Part, watched
from standins.topology import USUAL_PORT as STANDIN_PORT

USUAL_PORT = 8137
PASSWORDS = "demo-passwords.json"


def secret() -> str:
    """The key that signs sessions, made once for this copy of the project."""
    path = DATA / "secret"
    if not path.is_file():
        DATA.mkdir(exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(48))
    return path.read_text()


def django_environment(cluster: database.Cluster, name: str = "aptwire") -> dict[str, str]:
    """The environment of every Django process."""
    return environment(
        APTWIRE_SECRET=secret(), DJANGO_SETTINGS_MODULE="aptwire_server.settings", **cluster.environment(name)
    )


def manage(env: dict[str, str], *arguments: str) -> None:
    """Run a management command."""
    command([PYTHON, ROOT / "server" / "manage.py", *arguments], f"manage.py {arguments[0]}", env=env)


def prepare(cluster: database.Cluster, passwords: Path, name: str = "aptwire") -> dict[str, str]:
    """Migrate and load the demo; returns the environment.

    People who aren't there yet are made with passwords of their own, which go into that file.
    """
    env = django_environment(cluster, name)
    manage(env, "migrate", "--verbosity", "0")
    demo, along = (str(ROOT / "demo" / name) for name in ("brackwater.json", "brackwater-along.json"))
    manage(env, "load_demo", demo, "--along", along, "--passwords", str(passwords))
    return env


def terminals() -> Path:
    """The plan file of the second demo, a fleet; made where it isn't there."""
    path, script = DATA / "terminals.json", ROOT / "demo" / "terminals.py"
    if not path.exists() or path.stat().st_mtime < script.stat().st_mtime:
        command([PYTHON, script, path], "making the fleet of the demo")
    return path


def read_passwords(path: Path) -> dict[str, str]:
    """The passwords that the demo made, by name; empty where it found its people there already."""
    found: dict[str, str] = json.loads(path.read_text()) if path.is_file() else {}
    return found


def password(env: Mapping[str, str], name: str) -> str:
    """The password that a throwaway server of this environment made for one of the demo's people."""
    return read_passwords(Path(env["APTWIRE_TEST_PASSWORDS"]))[name]


def choose_port(wanted: int) -> int:
    """The wanted port on loopback, or a free one when it is taken."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", wanted))
            return wanted
        except OSError:
            port = database.free_port()
            say(f"port {wanted} is taken: using {port}")
            return port


def _web(env: dict[str, str], port: int) -> Part:
    arguments = [
        *(str(PYTHON), "-m", "uvicorn", "aptwire_server.asgi:application"),
        *("--host", "127.0.0.1", "--port", str(port), "--log-level", "warning", "--lifespan", "off"),
        # Who speaks for others is said by the settings; uvicorn would believe anybody on this machine.
        *("--timeout-graceful-shutdown", "1", "--no-proxy-headers", "--no-server-header"),
    ]
    return Part("the web server", lambda: _python(arguments, env))


def _standin(port: int) -> Part:
    arguments = [str(PYTHON), str(ROOT / "standins" / "topology.py"), "--port", str(port)]
    return Part("the stand-in", lambda: _python(arguments, environment()))


def _worker(env: dict[str, str]) -> Part:
    arguments = [str(PYTHON), str(ROOT / "server" / "manage.py"), "work"]
    return Part("the worker", lambda: _python(arguments, {**env, "APTWIRE_WORKER": "yes"}))


def _python(arguments: list[str], env: dict[str, str]) -> subprocess.Popen[bytes]:
    return subprocess.Popen(arguments, env=env, cwd=ROOT, start_new_session=True, preexec_fn=die_with_parent)


@contextlib.contextmanager
def web_server(env: dict[str, str], port: int) -> Iterator[str]:
    """A running web server's address."""
    part = _web(env, port)
    part.start()
    try:
        yield _answering(part, port)
    finally:
        part.end()


def _answering(part: Part, port: int) -> str:
    """The address of a web server, once it answers there."""
    url = f"http://127.0.0.1:{port}"
    for _ in range(400):
        if part.process is None or part.process.poll() is not None:
            raise SetupError("the web server ended at once")
        try:
            urllib.request.urlopen(f"{url}/api/health", timeout=2).close()
            return url
        except (urllib.error.URLError, ConnectionError, TimeoutError):
            time.sleep(0.05)
    raise SetupError("the web server doesn't answer")


@dataclass(frozen=True)
class Running:
    """Everything that runs: its address, its parts, and the environment of its processes."""

    url: str
    env: dict[str, str]
    database: Part
    web: Part
    worker: Part

    def password(self, name: str) -> str:
        """The password that a throwaway server made for one of the demo's people."""
        return password(self.env, name)


@contextlib.contextmanager
def running(cluster: database.Cluster, env: dict[str, str], port: int) -> Iterator[Running]:
    """Web server and worker of a cluster that runs already, all three watched."""
    base, web, worker = Part("the database", cluster.start, cluster.stop), _web(env, port), _worker(env)
    base.process = cluster.process
    web.start()
    try:
        url = _answering(web, port)
        worker.start()
    except BaseException:
        web.end()
        raise
    with watched(base, web, worker):
        yield Running(url, env, base, web, worker)


@contextlib.contextmanager
def beside(part: Part) -> Iterator[None]:
    """A part that runs along, and of which nothing else depends."""
    part.start()
    with watched(part):
        yield


def work() -> int:
    """`./run worker`: take long work of another machine's plans, whose database the environment names."""
    if "APTWIRE_DB_HOST" not in os.environ:
        say(
            "name the database: APTWIRE_DB_HOST, APTWIRE_DB_PORT, APTWIRE_DB_NAME, APTWIRE_DB_USER, APTWIRE_DB_PASSWORD"
        )
        return 2
    virtual_environment()
    bench()
    env = environment(APTWIRE_SECRET=secret(), DJANGO_SETTINGS_MODULE="aptwire_server.settings")
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    part = _worker(env)
    part.start()
    with contextlib.suppress(KeyboardInterrupt), watched(part):
        say("waiting for work; Ctrl-C ends it")
        while True:
            signal.pause()
    return 0


def demo(port: int) -> int:
    """`./run demo`: everything from one address, until Ctrl-C."""
    DATA.mkdir(exist_ok=True)
    lock = open(DATA / "demo.lock", "a+")  # noqa: SIM115, held until this process ends
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        lock.seek(0)
        say(f"the demo runs already: {lock.read().strip() or 'it is still starting'}")
        return 1
    # Ctrl-C stops the demo also where the shell that started it ignores it for its children.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    virtual_environment()
    database.install()
    bench()
    front_end()
    cluster = database.Cluster(database.lasting_folder(), lasting=True)
    try:
        say("starting the database")
        cluster.start()
        cluster.create()
        passwords = DATA / PASSWORDS
        env = prepare(cluster, passwords)
        manage(env, "load_demo", str(terminals()), "--passwords", str(passwords))
        other = choose_port(STANDIN_PORT)
        env["APTWIRE_SOURCES"] = os.environ.get("APTWIRE_SOURCES", f"http://127.0.0.1:{other}")
        with running(cluster, env, choose_port(port)) as all_parts, beside(_standin(other)):
            lock.truncate(0)
            lock.write(all_parts.url)
            lock.flush()
            print(
                f"\n  Apt Wire is at  {all_parts.url}\n{_people(passwords)}\n  Ctrl-C stops it, the database too.\n",
                flush=True,
            )
            while True:
                signal.pause()
    except KeyboardInterrupt:
        print()
        say("stopping")
    finally:
        with contextlib.suppress(KeyboardInterrupt):
            cluster.stop()
            lock.truncate(0)
    say("stopped")
    return 0


def _people(passwords: Path) -> str:
    """Who can log in, for the person who started the demo."""
    made = read_passwords(passwords)
    if not made:
        return "  Log in with the names and passwords that this installation has had.\n"
    lines = [f"  Log in as       {name:<10} Password  {word}\n" for name, word in made.items()]
    return f"{''.join(lines)}  (as first made; they stand in {passwords.relative_to(ROOT)}, readable for you alone)\n"


@contextlib.contextmanager
def throwaway_server() -> Iterator[Running]:
    """A server on a fresh database with the demo in it; `env` names the file of its people's passwords too."""
    with database.throwaway() as cluster:
        passwords = cluster.folder / PASSWORDS
        env = {
            **prepare(cluster, passwords),
            "APTWIRE_TEST_PASSWORDS": str(passwords),
            # Where tests put a system of their own.
            "APTWIRE_SOURCES": f"http://127.0.0.1:{database.free_port()}",
        }
        with running(cluster, env, database.free_port()) as all_parts:
            yield all_parts
