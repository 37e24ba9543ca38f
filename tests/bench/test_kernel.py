"""The kernel's life: it is gone whatever happens, says why it could not, and never touches this machine's own network."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from aptwire_bench import kernel as kernels
from aptwire_bench.kernel import BenchError, Cancelled, Kernel
from aptwire_bench.prove import Case, Scope, job_of

from tests.support import pair


def processes(folder: str) -> list[str]:
    """The command lines of this machine's processes that name a folder."""
    found = []
    for path in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            line = path.read_bytes().replace(b"\0", b" ").decode(errors="replace")
        except OSError:
            continue
        if Path(folder).name in line:
            found.append(line)
    return found


def network() -> str:
    """This machine's own links and namespaces, without counters."""
    return subprocess.run(["ip", "-o", "link"], text=True, capture_output=True, check=True).stdout + str(
        sorted(p.name for p in Path("/run/netns").glob("*"))
    )


def job(**more: object) -> dict[str, object]:
    return {**job_of([Case.of(pair().plan(), Scope(sample=0, pulls=0, trials=0))]), **more}


class KernelTest(unittest.TestCase):
    def gone(self, kernel: Kernel) -> None:
        self.assertEqual(processes(kernel.folder), [])
        self.assertFalse(Path(kernel.folder).exists())

    def test_nothing_is_left_and_the_own_network_stays_as_it_is(self) -> None:
        before = network()
        with Kernel("256M") as kernel:
            self.assertTrue(processes(kernel.folder))
            answer = kernel.run(job())
            self.assertTrue(answer["heard"])
            self.assertEqual(network(), before)
        self.gone(kernel)
        self.assertEqual(network(), before)

    def test_it_runs_as_nobody_and_sees_its_own_folder_alone(self) -> None:
        asked = job()
        lines = asked["scenes"][0]["inside"]["e"]["ip"]  # type: ignore[index]
        # As root in there, asking for the folders of the machine: it gets its own, in which there are no secrets.
        tries = "mkdir -p /tmp/m && mount -t hostfs none /tmp/m -o {} && test -e /tmp/m/{} && test ! -e /tmp/m/{} || {{ echo {} is in sight; exit 1; }}"
        for folder, there, secret in (
            ("/etc", "passwd", "shadow"),
            ("/", "agent.py", "home"),
            ("/../..", "agent.py", "home"),
        ):
            with self.subTest(folder), Kernel("256M") as kernel:
                self.assertTrue(os.geteuid() != 0 or os.stat(f"/proc/{kernel.process.pid}").st_uid != 0)
                said = tries.format(folder, there, secret, secret)
                asked["scenes"][0]["inside"]["e"]["ip"] = [*lines, f"netns exec e sh -c '{said}'"]  # type: ignore[index]
                self.assertTrue(kernel.run(asked)["heard"])

    def test_a_kernel_that_is_killed_says_so_and_not_what_it_said_while_it_started(self) -> None:
        told = r"kernel died: it was killed from outside \(SIGKILL\); ask again$"
        with self.assertRaisesRegex(BenchError, told), Kernel("256M") as kernel:
            threading.Timer(0.5, lambda: os.killpg(kernel.process.pid, signal.SIGKILL)).start()
            kernel.run(job(settle=60))
        self.gone(kernel)

    def test_a_kernel_that_hangs_is_ended_and_reported(self) -> None:
        with (
            mock.patch.object(kernels, "SILENCE", 2.0),
            self.assertRaisesRegex(BenchError, "said nothing for 2 s and was ended"),
            Kernel("256M") as kernel,
        ):
            kernel.run(job(settle=600))
        self.gone(kernel)

    def test_what_the_kernel_refuses_is_named(self) -> None:
        asked = job()
        asked["scenes"][0]["inside"]["e"]["ip"].append("link set dev nowhere up")  # type: ignore[index]
        with Kernel("256M") as kernel:
            with self.assertRaisesRegex(BenchError, 'link set dev nowhere up: Cannot find device "nowhere"'):
                kernel.run(asked)
            self.assertTrue(kernel.run(job())["heard"], "the next job finds the kernel as it was")
        self.gone(kernel)

    def test_a_run_can_be_cancelled(self) -> None:
        began = time.monotonic()

        def stop(*_: object) -> None:
            if time.monotonic() - began > 3:
                raise Cancelled("enough")

        kernel = Kernel("256M", stop)
        with self.assertRaises(Cancelled), kernel:
            kernel.run(job(settle=600))
        self.gone(kernel)
        self.assertLess(time.monotonic() - began, 60)

    def test_without_the_package_it_says_what_to_install(self) -> None:
        with (
            mock.patch.object(kernels, "program", lambda name: None if name == "linux.uml" else "/bin/true"),
            self.assertRaisesRegex(BenchError, "apt-get install user-mode-linux$"),
        ):
            Kernel()

    def test_a_kernel_whose_owner_is_killed_goes_too(self) -> None:
        code = "import time; from aptwire_bench.kernel import Kernel\nwith Kernel('256M') as k: print(k.folder, flush=True); time.sleep(60)"
        owner = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
        assert owner.stdout is not None
        folder = owner.stdout.readline().strip()
        self.assertTrue(processes(folder))
        owner.kill()
        owner.wait()
        owner.stdout.close()
        for _ in range(100):
            if not processes(folder):
                break
            time.sleep(0.05)
        self.assertEqual(processes(folder), [])
        self.assertFalse(Path(folder).exists())


if __name__ == "__main__":
    unittest.main()
