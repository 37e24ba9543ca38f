"""A disposable kernel: started, given jobs, ended; nothing of it outlives whoever asked for it.

It is Debian's user-mode-linux: an ordinary process without privileges, whose network exists inside of it alone.  It stands in a folder of
its own with what it needs (ground.py).  Where this was started by root, it runs as nobody in particular, and no other file of this machine
can be reached from it; else its own kernel keeps whoever is in there to that folder, as well as it can.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import pwd
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from aptwire_bench.ground import LINUX, lay, program

AGENT = Path(__file__).with_name("agent.py")
NEEDED = {
    "linux.uml": "user-mode-linux",
    "ip": "iproute2",
    "bridge": "iproute2",
    "tc": "iproute2",
    "modprobe": "kmod",
    "mount": "mount",
    "dnsmasq": "dnsmasq-base",
    "radvd": "radvd",
    "iptables-legacy-restore": "iptables",
    "ip6tables-legacy-restore": "iptables",
}
BOOT, SILENCE = 60.0, 90.0
Progress = Callable[[str, int, int], None]
"""(what is being done, how many are done, of how many); raises to cancel"""


class BenchError(Exception):
    """The bench can't go on; the text says why, and what to do where something can be done."""


class Cancelled(BenchError):
    """Somebody asked for the end."""


NEW_MOUNTS, BIND, PRIVATE_BELOW = 0x00020000, 0x1000, 0x4000 | 0x40000
LIBC = ctypes.CDLL(None, use_errno=True)


@dataclass(frozen=True)
class Cell:
    """As whom the kernel runs, and whether it is closed in its folder."""

    root: Path
    memory: str
    user: int
    group: int
    closed: bool

    def enter(self) -> None:
        """In the child, before it starts.  Its memory is a file: of a file system that nobody else sees and that ends with it."""
        if self.closed:
            size = f"size={self.memory},mode=0700,uid={self.user},gid={self.group}".encode()
            below, null = str(self.root / "shm").encode(), str(self.root / "dev" / "null").encode()
            if (
                LIBC.unshare(NEW_MOUNTS)
                or LIBC.mount(b"none", b"/", None, PRIVATE_BELOW, None)
                or LIBC.mount(b"shm", below, b"tmpfs", 0, size)
                or LIBC.mount(b"/dev/null", null, None, BIND, None)
            ):
                raise OSError(ctypes.get_errno(), "the kernel’s folder can’t be closed")
            os.chroot(self.root)
            os.chdir("/")
        if os.geteuid() == 0:
            os.setgroups([])
            os.setresgid(self.group, self.group, self.group)
            os.setresuid(self.user, self.user, self.user)


def _cell(root: Path, memory: str) -> Cell:
    if os.geteuid() != 0:
        return Cell(root, memory, os.geteuid(), os.getegid(), closed=False)
    nobody = pwd.getpwnam("nobody")
    # Root of a container may be without the right to mount anything.
    closed = subprocess.run(["unshare", "--mount", "true"], capture_output=True).returncode == 0
    return Cell(root, memory, nobody.pw_uid, nobody.pw_gid, closed)


def missing() -> list[str]:
    """The Debian packages that the bench needs and this machine lacks."""
    return sorted({package for name, package in NEEDED.items() if program(name) is None})


class Kernel:
    """A running kernel.  Use it as a context: it is gone afterwards, whatever happened."""

    def __init__(self, memory: str = "1G", progress: Progress | None = None) -> None:
        lacking = missing()
        if lacking:
            raise BenchError(
                f"the bench needs Debian packages that are not installed here: apt-get install {' '.join(lacking)}"
            )
        self.progress = progress
        self.memory = memory
        self.jobs = 0
        self.lines: deque[str] = deque(maxlen=200)
        self.log: list[str] = []

    def __enter__(self) -> Kernel:
        self.folder = tempfile.mkdtemp(prefix="aptwire-bench-")
        root = Path(self.folder, "root")
        self.jobs_folder = root / "jobs"
        try:
            lay(root, AGENT)
            cell = _cell(root, self.memory)
            for folder in (self.folder, self.jobs_folder):
                os.chown(folder, cell.user, cell.group)
        except BaseException:
            shutil.rmtree(self.folder, ignore_errors=True)
            raise
        # Whoever is closed in calls its folder by no name.
        named = "" if cell.closed else str(root)
        self.ready = threading.Event()
        self.process = subprocess.Popen(
            [
                LINUX if cell.closed else str(program("linux.uml")),
                # Every folder of the host that anybody mounts in there is below this one.
                f"hostfs={named or '/'}",
                "rootfstype=hostfs",
                "rootflags=/",
                "ro",
                "quiet",
                f"mem={self.memory}",
                f"uml_dir={named}/jobs/",
                # By this its processes are known to be its own.
                f"umid={Path(self.folder).name}",
                "con=null",
                "con0=null,fd:1",
                f"init={os.path.realpath(sys.executable)}",
                "--",
                "-I",
                "-S",
                "-B",
                "/agent.py",
                "/jobs",
            ],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            errors="replace",
            start_new_session=True,
            cwd="/",
            env={"HOME": "/", "TMPDIR": "/shm" if cell.closed else "/dev/shm", "PATH": "/usr/bin:/bin"},
            preexec_fn=cell.enter,
        )
        # Should this process be killed outright, its end of the pipe closes, and this one clears up.
        self.guardian = subprocess.Popen(
            ["/bin/sh", "-c", 'read x; kill -9 "-$0"; rm -rf "$1"', str(self.process.pid), self.folder],
            stdin=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        self.heard = time.monotonic()
        self.thread = threading.Thread(target=self._listen, daemon=True)
        self.thread.start()
        try:
            self._boot()
        except BaseException:
            self.__exit__()
            raise
        return self

    def _boot(self) -> None:
        for _ in range(int(BOOT * 5)):
            if self.ready.wait(0.2):
                return
            if self.process.poll() is not None:
                break
            if self.progress is not None:
                self.progress(*self.last)
        raise BenchError(f"the bench’s kernel did not start: {self._end()}")

    def __exit__(self, *_: object) -> None:
        """End it, and see that no process of it is left."""
        if self.process.poll() is None:
            (self.jobs_folder / "stop").touch()
            with contextlib.suppress(subprocess.TimeoutExpired):
                self.process.wait(1.5)
        self.guardian.kill()
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()
        self.guardian.wait()
        self.thread.join(2)
        for pipe in (self.process.stdout, self.guardian.stdin):
            if pipe is not None:
                pipe.close()
        shutil.rmtree(self.folder, ignore_errors=True)

    def _listen(self) -> None:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.heard = time.monotonic()
            text = line.strip()
            if not text.startswith("bench: "):
                self.lines.append(text)
                continue
            self.log.append(text[7:])
            if text == "bench: ready":
                self.ready.set()
            words = text[7:].split()
            if len(words) == 3 and words[1].isdigit():
                self.last = (words[0], int(words[1]), int(words[2]))
            elif words[:1] == ["died"]:
                self.lines.append(text[7:])

    last: tuple[str, int, int] = ("starting", 0, 0)

    def _last(self) -> str:
        fatal = [line for line in self.lines if line.startswith("died") or "Kernel panic" in line]
        return " / ".join(fatal or [line for line in self.lines if line][-4:]) or "it said nothing"

    def _end(self) -> str:
        """Why it ended, in words: who killed it, or else what it said last, which is noise where it was killed."""
        code = self.process.poll()
        # A kernel that panics aborts itself.
        if code is not None and code < 0 and code != -signal.SIGABRT:
            name = signal.Signals(-code).name if -code in set(signal.Signals) else f"signal {-code}"
            return f"it was killed from outside ({name}); ask again"
        return self._last()

    def _hand(self, name: str, what: dict[str, Any]) -> None:
        path = self.jobs_folder / f"{name}.json"
        path.with_suffix(".part").write_text(json.dumps(what))
        path.with_suffix(".part").rename(path)

    def run(self, job: dict[str, Any], asks: Callable[[], dict[str, Any]] | None = None) -> dict[str, Any]:
        """Give it a job and wait for the answer; BenchError if it hangs, dies or can't do it.

        `asks` makes the rest of the job while the kernel builds.
        """
        number, self.jobs = self.jobs, self.jobs + 1
        answer = self.jobs_folder / f"answer-{number}.json"
        self._hand(f"job-{number}", job)
        if asks is not None:
            self._hand(f"asks-{number}", asks())
        self.heard = time.monotonic()
        told = self.last = ("building", 0, 1)
        while not answer.exists():
            if self.process.poll() is not None:
                raise BenchError(f"the bench’s kernel died: {self._end()}")
            if time.monotonic() - self.heard > SILENCE:
                raise BenchError(
                    f"the bench’s kernel has said nothing for {SILENCE:.0f} s and was ended: {self._last()}"
                )
            if self.progress is not None and (self.last != told or time.monotonic() - self.heard > 1):
                told = self.last
                self.progress(*told)
            time.sleep(0.02)
        made: dict[str, Any] = json.loads(answer.read_text())
        if "failed" in made:
            raise BenchError(f"the kernel didn’t take the plan: {made['failed']}")
        return made
