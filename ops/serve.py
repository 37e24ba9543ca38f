"""Database and web server together, for the demo, the tests and the screenshots."""

from __future__ import annotations

import contextlib
import fcntl
import os
import secrets
import signal
import socket
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Iterator

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

USUAL_PORT = 8137
PASSWORD = "brackwater-demo"


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


def prepare(cluster: database.Cluster, name: str = "aptwire") -> dict[str, str]:
    """Migrate and load the demo; returns the environment."""
    env = django_environment(cluster, name)
    manage(env, "migrate", "--verbosity", "0")
    manage(env, "load_demo", str(ROOT / "demo" / "brackwater.json"), "--password", PASSWORD)
    return env


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


@contextlib.contextmanager
def web_server(env: dict[str, str], port: int) -> Iterator[str]:
    """The running web server's address."""
    process = subprocess.Popen(
        [
            *(str(PYTHON), "-m", "uvicorn", "aptwire_server.asgi:application"),
            *("--host", "127.0.0.1", "--port", str(port), "--log-level", "warning", "--lifespan", "off"),
            *("--timeout-graceful-shutdown", "1"),
        ],
        env=env,
        cwd=ROOT,
        start_new_session=True,
        preexec_fn=die_with_parent,
    )
    url = f"http://127.0.0.1:{port}"
    try:
        for _ in range(400):
            if process.poll() is not None:
                raise SetupError("the web server ended at once")
            try:
                urllib.request.urlopen(f"{url}/api/health", timeout=2).close()
                break
            except (urllib.error.URLError, ConnectionError, TimeoutError):
                time.sleep(0.05)
        else:
            raise SetupError("the web server doesn't answer")
        yield url
    finally:
        end(process)


@contextlib.contextmanager
def worker(env: dict[str, str]) -> Iterator[None]:
    """A worker that takes long work from the queue while the context lasts."""
    process = subprocess.Popen(
        [
            str(PYTHON),
            str(ROOT / "server" / "manage.py"),
            "procrastinate",
            "worker",
            "--shutdown-graceful-timeout",
            "3",
        ],
        env={**env, "APTWIRE_WORKER": "yes"},
        cwd=ROOT,
        start_new_session=True,
        preexec_fn=die_with_parent,
    )
    try:
        yield
    finally:
        end(process)


def end(process: subprocess.Popen[bytes]) -> None:
    """End a process: asked first, then made to."""
    if process.poll() is None:
        process.terminate()
        try:
            process.wait(10)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


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
    with contextlib.suppress(KeyboardInterrupt), worker(env):
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
        env = prepare(cluster)
        with web_server(env, choose_port(port)) as url, worker(env):
            lock.truncate(0)
            lock.write(url)
            lock.flush()
            print(
                f"\n  Apt Wire is at  {url}\n  Log in as       ines  (or tomas, for a second browser)\n  Password        {PASSWORD}\n\n  Ctrl-C stops it, the database too.\n",
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


@contextlib.contextmanager
def throwaway_server() -> Iterator[tuple[str, dict[str, str]]]:
    """A server on a fresh database with the demo in it; its address and environment."""
    with database.throwaway() as cluster:
        env = prepare(cluster)
        with web_server(env, database.free_port()) as url, worker(env):
            yield url, env
