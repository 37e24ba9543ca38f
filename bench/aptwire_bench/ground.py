"""The folder in which a disposable kernel stands: the programs that it needs and nothing else of this machine.

Files are linked where that is possible and copied where it isn't, at the paths that they have outside, so that each finds its own.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import sysconfig
from collections.abc import Iterable, Iterator
from pathlib import Path

from aptwire_bench.agent import MODULES

ALL_MODULES = Path("/usr/lib/uml/modules")
SETTINGS = (
    *(Path("/etc/iproute2"), Path("/usr/share/iproute2"), Path("/usr/lib/tc"), Path("/usr/lib/os-release")),
    *Path("/usr/lib").glob("*/xtables"),
)
PROGRAMS = (
    "linux.uml",
    "sh",
    "mount",
    "mkdir",
    "ln",
    "modprobe",
    "ip",
    "bridge",
    "tc",
    "dnsmasq",
    "radvd",
    "lldpd",
    "lldpcli",
    "iptables-legacy-restore",
    "ip6tables-legacy-restore",
)
LINUX = "/usr/bin/linux.uml"
MOUNTS = ("proc", "sys", "dev", "tmp", "run", "jobs", "shm")
PEOPLE = "root:x:0:0::/:/bin/sh\n_lldpd:x:100:100::/:/bin/false\nnobody:x:65534:65534::/:/bin/false\n"
GROUPS = "root:x:0:\n_lldpd:x:100:\nnogroup:x:65534:\n"
UNUSED = {
    "site-packages",
    "test",
    "tests",
    "idlelib",
    "tkinter",
    "turtledemo",
    "ensurepip",
    "lib2to3",
    "pydoc_data",
    "__pycache__",
}
"""Parts of Python's library that nothing in there asks for."""
_LIBRARY = re.compile(r"(/\S+) \(0x")


def lay(root: Path, agent: Path) -> None:
    """Fill a folder that isn't there yet; the agent stands in it as /agent.py, and jobs come and go in /jobs."""
    root.mkdir()
    for top in ("bin", "sbin", "lib", "lib32", "lib64", "libx32"):
        # Where these are links into /usr on this machine, they are there too.
        if Path("/", top).is_symlink():
            (root / top).symlink_to(os.readlink(Path("/", top)))
            (root / os.readlink(Path("/", top)).lstrip("/")).mkdir(parents=True, exist_ok=True)
    for name in MOUNTS:
        (root / name).mkdir()
    (root / "dev" / "null").touch()
    (root / "var").mkdir()
    (root / "var" / "run").symlink_to("/run")
    (root / "etc").mkdir()
    (root / "etc" / "passwd").write_text(PEOPLE)
    (root / "etc" / "group").write_text(GROUPS)
    shutil.copy(agent, root / "agent.py")
    programs = [Path(sys.executable).resolve(), *(Path(found) for found in map(program, PROGRAMS) if found)]
    library = list(_library())
    binaries = [*programs, *(path for path in library if ".so" in path.name)]
    for path in {*programs, *library, *_shared(binaries), *_modules(), *_below(SETTINGS)}:
        _put(root, path)


def program(name: str) -> str | None:
    """Where a program stands on this machine, None where it isn't installed."""
    return shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin")


def _library() -> Iterator[Path]:
    """The files of Python's own library."""
    home = Path(sysconfig.get_path("stdlib"))
    for folder, names, files in os.walk(home):
        names[:] = [n for n in names if n not in UNUSED and not n.startswith("config-")]
        yield from (Path(folder, file) for file in files)


def _shared(binaries: list[Path]) -> set[Path]:
    """The shared libraries of some programs and libraries, and what loads them."""
    said = subprocess.run(["ldd", *map(str, binaries)], text=True, capture_output=True).stdout
    return {Path(path) for path in _LIBRARY.findall(said)}


def _modules() -> Iterator[Path]:
    """The kernel modules that the agent loads, with what they hang on, and the lists by which they are found."""
    for version in ALL_MODULES.iterdir():
        yield from version.glob("modules.*")
        needs: dict[str, tuple[str, list[str]]] = {}
        for line in (version / "modules.dep").read_text().splitlines():
            path, _, others = line.partition(":")
            needs[path] = _name(path), others.split()
        wanted = {name.replace("-", "_") for name in ("ipv6", *MODULES.split())}
        # modules.dep names for each module all that it hangs on, however far.
        for path, (name, deep) in needs.items():
            if name in wanted:
                yield from (version / found for found in (path, *deep))


def _name(path: str) -> str:
    return Path(path).name.partition(".")[0].replace("-", "_")


def _below(folders: Iterable[Path]) -> Iterator[Path]:
    for top in folders:
        if top.is_file():
            yield top
        for folder, _, files in os.walk(top):
            yield from (Path(folder, file) for file in files)


def _put(root: Path, path: Path) -> None:
    target = root / str(path).lstrip("/")
    target.parent.mkdir(parents=True, exist_ok=True)
    if target.exists():
        return
    source = path.resolve()
    mode = source.stat().st_mode
    readable = mode & 0o004 and (mode & 0o001 or not mode & 0o100)
    if readable and not mode & 0o6000:
        try:
            os.link(source, target)
            return
        except OSError:
            # Another file system, or a file that isn't ours to link.
            pass
    shutil.copyfile(source, target)
    target.chmod(0o755 if mode & 0o100 else 0o644)
