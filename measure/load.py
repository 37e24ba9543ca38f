"""Open pages and people who edit, against a server of its own, in quiet and while its parts are killed: ./run load

Everything happens on this machine's loopback, on a throwaway database that keeps what it acknowledges as a real one does.
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import os
import random
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import psycopg
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.plan import Plan

from measure.fleet import fleet
from ops import database, serve
from ops.machine import PYTHON, ROOT

EDITORS, EDITS_A_SECOND = 20, 4.0
MOST_PAGES, MOST_SECONDS = 1_000, 600
PATIENCE = 120.0
"""Seconds after the end in which all pages must have heard of the last edit."""
PEOPLE = """
import django, sys
django.setup()
from django.contrib.auth import BACKEND_SESSION_KEY, HASH_SESSION_KEY, SESSION_KEY
from django.contrib.auth.models import User
from django.contrib.sessions.backends.db import SessionStore
for n in range(int(sys.argv[1])):
    user = User.objects.create(username=f"editor-{n}")
    session = SessionStore()
    session[SESSION_KEY], session[HASH_SESSION_KEY] = str(user.pk), user.get_session_auth_hash()
    session[BACKEND_SESSION_KEY] = "django.contrib.auth.backends.ModelBackend"
    session.save()
    print(session.session_key)
"""


@dataclass
class Target:
    """A plan that is edited: whose adapters, and what was acknowledged of it."""

    id: str
    adapters: list[str]
    revision: int = 0
    acknowledged: dict[int, float] = field(default_factory=dict)
    words: dict[int, str] = field(default_factory=dict)


@dataclass
class Page:
    """An open page: the latest revision that it was told, and how long after it was acknowledged."""

    plan: Target
    session: str
    revision: int = -1
    late: list[float] = field(default_factory=list)
    away: list[float] = field(default_factory=list)


@dataclass
class Played:
    """What came of it; seconds everywhere."""

    pages: int
    edits: int = 0
    conflicts: int = 0
    took: list[float] = field(default_factory=list)
    told: list[float] = field(default_factory=list)
    waits: list[float] = field(default_factory=list)
    lost: list[str] = field(default_factory=list)
    behind: int = 0
    connections: int = 0

    def lines(self) -> list[str]:
        """In words."""
        return [
            f"{self.pages} open pages, {self.edits} edits acknowledged, {self.conflicts} refused since somebody else was first",
            f"an edit takes {_spread(self.took)}",
            f"a page is told {_spread(self.told)} after the answer to whoever edited",
            f"the longest wait after a part was started again: {max(self.waits, default=0):.1f} s",
            f"acknowledged and lost: {len(self.lost)}; pages that were never told of the last edit: {self.behind}",
            f"connections to the database at the end: {self.connections}",
        ]


def connect(env: Mapping[str, str]) -> psycopg.Connection:
    """The database that the environment of a server names."""
    return psycopg.connect(
        host=env["APTWIRE_DB_HOST"],
        port=env["APTWIRE_DB_PORT"],
        dbname=env["APTWIRE_DB_NAME"],
        user=env["APTWIRE_DB_USER"],
        password=env["APTWIRE_DB_PASSWORD"],
    )


def _spread(values: list[float]) -> str:
    if len(values) < 2:
        return "unknown: too few"
    cuts = statistics.quantiles(values, n=20)
    return (
        f"{statistics.median(values) * 1000:.0f} ms (p95 {cuts[18] * 1000:.0f} ms, at most {max(values) * 1000:.0f} ms)"
    )


def play(pages: int, seconds: float, kills: int, least: int = 0) -> Played:
    """Open pages, let people edit for so long, kill each part so often meanwhile; on a machine too slow for at least so many edits, longer."""
    folder = Path(tempfile.mkdtemp(prefix="aptwire-load-"))
    cluster = database.Cluster(folder, lasting=True)
    try:
        cluster.start()
        cluster.create()
        env = serve.prepare(cluster, folder / serve.PASSWORDS)
        sessions = subprocess.run(
            [str(PYTHON), "-c", PEOPLE, str(EDITORS)],
            env={**os.environ, **env},
            capture_output=True,
            text=True,
            check=True,
        ).stdout.split()
        with serve.running(cluster, env, database.free_port()) as running:
            return asyncio.run(_Play(running, cluster, sessions).run(pages, seconds, kills, least))
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


class _Play:
    def __init__(self, running: serve.Running, cluster: database.Cluster, sessions: list[str]) -> None:
        self.running = running
        self.cluster = cluster
        self.sessions = sessions
        self.dice = random.Random(1)
        self.over = asyncio.Event()
        self.back = 0.0
        self.client = httpx.AsyncClient(
            base_url=f"{running.url}/api/", timeout=20, limits=httpx.Limits(max_connections=200)
        )
        self.pages: list[Page] = []

    async def run(self, pages: int, seconds: float, kills: int, least: int) -> Played:
        played = Played(pages)
        async with self.client:
            token = (await self.client.get("session")).cookies["csrftoken"]
            self.client.cookies.clear()
            self.head = {"X-CSRFToken": token, "Cookie": f"csrftoken={token}; sessionid="}
            targets = [await self._import(plan) for plan in (_demo(), fleet(300, 20, faults=0.01))]
            self.pages = [Page(targets[n % 2], self.sessions[n % EDITORS]) for n in range(pages)]
            listening = [asyncio.create_task(self._listen(page)) for page in self.pages]
            while any(page.revision < 0 for page in self.pages):
                await asyncio.sleep(0.05)
            editing = [asyncio.create_task(self._edit(n, targets[n % 2], played)) for n in range(EDITORS)]
            killing = asyncio.create_task(self._kill(seconds, kills))
            await asyncio.sleep(seconds)
            longest = time.monotonic() + MOST_SECONDS
            while (played.edits < least or not killing.done()) and time.monotonic() < longest:
                await asyncio.sleep(0.1)
            self.over.set()
            await asyncio.gather(*editing, killing)
            for _ in range(int(PATIENCE * 10)):
                if all(page.revision >= page.plan.revision for page in self.pages):
                    break
                await asyncio.sleep(0.1)
            played.connections = self._look(targets, played)
            for task in listening:
                task.cancel()
            await asyncio.gather(*listening, return_exceptions=True)
        played.told = [late for page in self.pages for late in page.late]
        played.behind = sum(page.revision < page.plan.revision for page in self.pages)
        return played

    async def _import(self, plan: Plan) -> Target:
        files = {"file": ("plan.json", write_plan(plan), "application/json")}
        answer = await self.client.post("plans/import", files=files, headers=self._as(self.sessions[0]), timeout=120)
        answer.raise_for_status()
        return Target(answer.json()["id"], sorted(a.id for a in plan.all("adapter")))

    def _as(self, session: str) -> dict[str, str]:
        return {**self.head, "Cookie": self.head["Cookie"] + session}

    async def _edit(self, number: int, plan: Target, played: Played) -> None:
        """A person who edits records of their own, about every EDITORS / EDITS_A_SECOND seconds, and tries again until it is done."""
        own = plan.adapters[number]
        await self._pause(self.dice.uniform(0, EDITORS / EDITS_A_SECOND))
        count = 0
        while not self.over.is_set():
            count += 1
            message = f"{own} for the {count}th time"
            edit = [{"op": "patch", "kind": "adapter", "id": own, "set": {"mtu": 1280 + count}}]
            failed = 0.0
            while True:
                body = {"base": plan.revision, "message": message, "edit": edit}
                began = time.monotonic()
                try:
                    headers = self._as(self.sessions[number])
                    answer = await self.client.post(f"plans/{plan.id}/edits", json=body, headers=headers)
                except httpx.TransportError:
                    answer = None
                now = time.monotonic()
                if answer is not None and answer.status_code == 200:
                    self._done(plan, answer.json()["revision"], message, now)
                    played.edits += 1
                    if failed:
                        played.waits.append(now - max(self.back, failed))
                    else:
                        played.took.append(now - began)
                    break
                again = failed and answer is not None and answer.status_code == 400 and "changes nothing" in answer.text
                if again or (answer is not None and answer.status_code == 409):
                    # Its own edit of before, whose answer got lost on the way, or a base that nobody knows any more.
                    played.conflicts += 1
                    break
                if answer is not None and answer.status_code != 503:
                    raise RuntimeError(f"an edit was answered with {answer.status_code}: {answer.text[:300]}")
                failed = failed or began
                await asyncio.sleep(0.2)
            await self._pause(self.dice.uniform(0.5, 1.5) * EDITORS / EDITS_A_SECOND)

    def _done(self, plan: Target, revision: int, message: str, now: float) -> None:
        plan.revision = max(plan.revision, revision)
        plan.acknowledged[revision] = now
        plan.words[revision] = message
        for page in self.pages:
            if page.plan is plan and page.revision >= revision:
                page.late.append(0.0)

    async def _pause(self, seconds: float) -> None:
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self.over.wait(), seconds)

    async def _listen(self, page: Page) -> None:
        """A page: it begins anew where its stream breaks, as a browser does."""
        while True:
            with contextlib.suppress(OSError, asyncio.IncompleteReadError, ValueError):
                async for revision in self._events(page):
                    now = time.monotonic()
                    for told in range(page.revision + 1, revision + 1):
                        if page.revision >= 0 and told in page.plan.acknowledged:
                            page.late.append(now - page.plan.acknowledged[told])
                    page.revision = max(page.revision, revision)
                    # What others did is known to the page before its person edits.
                    page.plan.revision = max(page.plan.revision, revision)
            await asyncio.sleep(0.5)

    async def _events(self, page: Page) -> AsyncIterator[int]:
        """The revisions of which a stream tells; read without a library, so that hundreds of them cost little."""
        at = urlsplit(self.running.url)
        reader, writer = await asyncio.open_connection(at.hostname, at.port, limit=4_000_000)
        try:
            head = f"GET /api/plans/{page.plan.id}/events HTTP/1.1\r\nHost: {at.netloc}\r\nCookie: sessionid={page.session}\r\n\r\n"
            writer.write(head.encode())
            if b" 200 " not in await reader.readline():
                raise ValueError("refused")
            event = b""
            while line := await reader.readline():
                if line.startswith(b"event: "):
                    event = line[7:].strip()
                elif line.startswith(b"data: ") and event == b"revision":
                    yield int(line[6:].partition(b'"revision":')[2].partition(b",")[0].strip(b" }\r\n"))
            raise ValueError("ended")
        finally:
            writer.close()

    async def _kill(self, seconds: float, kills: int) -> None:
        """Each part in its turn, evenly over the time."""
        parts = [self.running.web, self.running.database, self.running.worker] * kills
        for n, part in enumerate(parts):
            await self._pause(seconds / (len(parts) + 1))
            while part.process is None and not self.over.is_set():
                await asyncio.sleep(0.05)
            if part.process is None or self.over.is_set():
                continue
            before = part.since
            os.kill(part.process.pid, signal.SIGKILL)
            print(f"  killed {part.name} ({n + 1} of {len(parts)})", flush=True)
            while part.since == before:
                await asyncio.sleep(0.05)
            self.back = time.monotonic()

    def _look(self, targets: list[Target], played: Played) -> int:
        """What the database holds, asked of itself: nothing that was acknowledged may be missing."""
        with connect(self.cluster.environment()) as connection:
            for plan in targets:
                rows = connection.execute(
                    "SELECT number, message FROM revision WHERE plan_id = %s", (plan.id,)
                ).fetchall()
                kept: dict[int, str] = dict(rows)
                played.lost += [f"{plan.id} {n}" for n, word in plan.words.items() if kept.get(n) != word]
            row = connection.execute(
                "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database()"
            ).fetchone()
            return int(row[0]) if row else 0


def _demo() -> Plan:
    return read_plan((ROOT / "demo" / "brackwater.json").read_bytes())


def main() -> int:
    parser = argparse.ArgumentParser(prog="./run load", description=__doc__)
    parser.add_argument("--pages", type=int, default=300)
    parser.add_argument("--seconds", type=float, default=120)
    parser.add_argument(
        "--kills", type=int, default=3, help="how often each part is killed in the second round; 0: there is none"
    )
    asked = parser.parse_args()
    if not (0 < asked.pages <= MOST_PAGES and 0 < asked.seconds <= MOST_SECONDS and 0 <= asked.kills <= 20):
        parser.error(f"at most {MOST_PAGES} pages, {MOST_SECONDS} seconds and 20 kills of each part")
    lost = 0
    for kills in (0, asked.kills) if asked.kills else (0,):
        print("while its parts are killed:" if kills else "in quiet:", flush=True)
        played = play(asked.pages, asked.seconds, kills)
        print("\n".join(f"  {line}" for line in played.lines()), flush=True)
        lost += len(played.lost) + played.behind
    return 1 if lost else 0


if __name__ == "__main__":
    sys.exit(main())
