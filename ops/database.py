"""A PostgreSQL cluster of the project's own: own data folder, free port on loopback, never as root."""

from __future__ import annotations

import contextlib
import glob
import hashlib
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from ops.machine import DATA, ROOT, SetupError, debian, die_with_parent, say

USER = "aptwire"


def binaries() -> Path:
    """The folder of the newest PostgreSQL server on this machine."""
    found = glob.glob("/usr/lib/postgresql/*/bin/postgres")
    if not found:
        raise SetupError("PostgreSQL is missing")
    return Path(max(found, key=lambda p: float(p.split("/")[4]))).parent


def install() -> None:
    """Debian's PostgreSQL server; only its programs are used."""
    debian({"postgresql": lambda: bool(glob.glob("/usr/lib/postgresql/*/bin/postgres"))})


def free_port() -> int:
    """A port on loopback that nobody uses now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Cluster:
    """The cluster in one data folder."""

    def __init__(self, folder: Path, lasting: bool) -> None:
        self.folder = folder
        self.lasting = lasting
        self.port = 0
        self.password = ""
        self.process: subprocess.Popen[bytes] | None = None
        # As root, the server runs as the user that Debian's package made for it.
        self.owner = pwd.getpwnam("postgres") if os.geteuid() == 0 else pwd.getpwuid(os.geteuid())

    def environment(self, name: str = "aptwire") -> dict[str, str]:
        """What Django needs to find the cluster."""
        return {
            "APTWIRE_DB_HOST": "127.0.0.1",
            "APTWIRE_DB_PORT": str(self.port),
            "APTWIRE_DB_NAME": name,
            "APTWIRE_DB_USER": USER,
            "APTWIRE_DB_PASSWORD": self.password,
        }

    def _as_owner(self) -> dict[str, object]:
        if os.geteuid() != 0:
            return {}
        return {"user": self.owner.pw_uid, "group": self.owner.pw_gid, "extra_groups": [], "cwd": "/"}

    def _make(self) -> None:
        data = self.folder / "data"
        done = self.folder / "made"
        if done.is_file() and (data / "PG_VERSION").is_file():
            made_for = (data / "PG_VERSION").read_text().strip()
            if binaries().parts[-2] != made_for:
                raise SetupError(
                    f"the database in {self.folder} is of PostgreSQL {made_for}, which isn't installed any more"
                )
            self.password = done.read_text()
            return
        if data.exists():
            say("the database folder is half-finished: making it anew")
            shutil.rmtree(data)
        self.folder.mkdir(parents=True, exist_ok=True)
        self.folder.chmod(0o711)
        self.password = secrets.token_urlsafe(24)
        data.mkdir(mode=0o700)
        word = self.folder / "word"
        word.write_text(self.password)
        word.chmod(0o600)
        if os.geteuid() == 0:
            os.chown(data, self.owner.pw_uid, self.owner.pw_gid)
            os.chown(word, self.owner.pw_uid, self.owner.pw_gid)
        options = ["-A", "scram-sha-256", "-U", USER, f"--pwfile={word}", "-E", "UTF8", "--locale=C.UTF-8"]
        if not self.lasting:
            options.append("--no-sync")
        made = subprocess.run(
            [str(binaries() / "initdb"), "-D", str(data), *options],
            text=True,
            capture_output=True,
            **self._as_owner(),  # type: ignore[call-overload]
        )
        word.unlink()
        if made.returncode:
            raise SetupError(f"making the database folder failed:\n{made.stdout}{made.stderr}")
        done.write_text(self.password)
        done.chmod(0o600)

    def _end_leftover(self) -> None:
        """A server that an earlier, killed run left behind in this folder."""
        pid_file = self.folder / "data" / "postmaster.pid"
        if not pid_file.is_file():
            return
        lines = pid_file.read_text().splitlines()
        pid = int(lines[0]) if lines and lines[0].lstrip("-").isdigit() else 0
        if pid > 0 and _is_postgres(pid):
            say("a database server of an earlier run is still there: stopping it")
            os.kill(pid, signal.SIGINT)
            for _ in range(200):
                if not _is_postgres(pid):
                    return
                time.sleep(0.05)
            raise SetupError(f"the database server of an earlier run (process {pid}) doesn't stop")
        say("an earlier run was killed: the database recovers by itself")

    def start(self) -> subprocess.Popen[bytes]:
        """Start the server and wait until it takes connections; its process."""
        self._make()
        self._end_leftover()
        # Who knows its address finds it there again.
        self.port = self.port or free_port()
        settings = {
            "listen_addresses": "127.0.0.1",
            "port": str(self.port),
            "unix_socket_directories": "",
            "max_connections": "60",
            "logging_collector": "off",
            "log_min_messages": "warning",
            "jit": "off",
        }
        if not self.lasting:
            settings |= {"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off"}
        arguments = [str(binaries() / "postgres"), "-D", str(self.folder / "data")]
        for name, value in settings.items():
            arguments += ["-c", f"{name}={value}"]
        with open(self.folder / "log", "ab") as log:
            self.process = subprocess.Popen(
                arguments,
                stdout=log,
                stderr=log,
                start_new_session=True,
                preexec_fn=die_with_parent,
                **self._as_owner(),  # type: ignore[call-overload]
            )
        for _ in range(600):
            if self.process.poll() is not None:
                raise SetupError(f"the database server ended at once:\n{self._log_tail()}")
            ready = subprocess.run(
                [str(binaries() / "pg_isready"), "-q", "-h", "127.0.0.1", "-p", str(self.port)], capture_output=True
            )
            if ready.returncode == 0:
                return self.process
            time.sleep(0.05)
        raise SetupError(f"the database server takes no connections:\n{self._log_tail()}")

    def _log_tail(self) -> str:
        return "\n".join((self.folder / "log").read_text(errors="replace").splitlines()[-20:])

    def create(self, name: str = "aptwire") -> None:
        """The database, unless it is there."""
        made = subprocess.run(
            [str(binaries() / "createdb"), "-h", "127.0.0.1", "-p", str(self.port), "-U", USER, name],
            text=True,
            capture_output=True,
            env={**os.environ, "PGPASSWORD": self.password},
        )
        if made.returncode and "already exists" not in made.stderr:
            raise SetupError(f"making the database failed: {made.stderr}")

    def stop(self) -> None:
        """Stop the server cleanly; what was written is on disk."""
        if self.process is not None and self.process.poll() is None:
            self.process.send_signal(signal.SIGINT)
            try:
                self.process.wait(20)
            except subprocess.TimeoutExpired:
                self.process.send_signal(signal.SIGQUIT)
                self.process.wait(20)
        self.process = None


def _is_postgres(pid: int) -> bool:
    try:
        return b"postgres" in Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return False


def lasting_folder() -> Path:
    """Where the demo's cluster lives: beside the project, or where the server's own user can reach it when run as root."""
    if os.geteuid() != 0:
        return DATA / "postgresql"
    mark = hashlib.sha256(str(ROOT).encode()).hexdigest()[:10]
    return Path("/var/lib/aptwire") / mark


@contextlib.contextmanager
def throwaway() -> Iterator[Cluster]:
    """A running cluster for tests, gone afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="aptwire-test-"))
    cluster = Cluster(folder, lasting=False)
    try:
        cluster.start()
        cluster.create()
        yield cluster
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)
