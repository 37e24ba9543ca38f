"""Measures the engine and prints tables for docs/performance.md.

./run measure            the engine alone
./run measure --large      also ten thousand hosts
./run measure --screen     also the server on a thousand hosts, and the time from a key to the new verdicts on screen (needs Chromium)
"""

from __future__ import annotations

import cProfile
import io
import json
import pathlib
import platform
import pstats
import re
import resource
import statistics
import sys
import time
import urllib.request
from collections.abc import Callable, Iterable
from functools import partial
from http.cookiejar import CookieJar
from typing import Any

import numpy as np

ROOT = pathlib.Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "core")]

from aptwire.forward.compiling import compile_wiring  # noqa: E402
from aptwire.judge.findings import findings  # noqa: E402
from aptwire.judge.judgement import Judgement  # noqa: E402
from aptwire.judge.preview import moves, preview  # noqa: E402
from aptwire.judge.risks import risks  # noqa: E402
from aptwire.judge.verdicts import judge, rejudge  # noqa: E402
from aptwire.judge.voices import voices  # noqa: E402
from aptwire.moving.clearing import clear  # noqa: E402
from aptwire.moving.moves import Moving, moving  # noqa: E402
from aptwire.plan.checks import check_plan  # noqa: E402
from aptwire.plan.collecting import no_collecting  # noqa: E402
from aptwire.plan.edits import Drop, Edit, Patch, Put, apply_edit, touched  # noqa: E402
from aptwire.plan.file import read_plan, write_plan  # noqa: E402
from aptwire.plan.kinds import KINDS, Rule  # noqa: E402
from aptwire.plan.plan import Plan  # noqa: E402
from aptwire.plan.sentences import quoted  # noqa: E402
from aptwire.rules.asking import asked  # noqa: E402
from aptwire.rules.meetings import Meeting  # noqa: E402
from aptwire.stamping.making import from_host  # noqa: E402
from aptwire.stamping.stamp import stamp  # noqa: E402

from measure.elsewhere import queue_plans, topologies  # noqa: E402
from measure.fleet import fleet, with_adverts, with_leases, with_routers  # noqa: E402
from measure.loads import loads  # noqa: E402
from measure.plain import homeless  # noqa: E402
from measure.timing import additions, all_times, timed  # noqa: E402
from ops.parts import Part  # noqa: E402


def fresh(plan: Plan) -> Plan:
    """The same plan without the indexes that earlier questions made."""
    return Plan(plan.name, {kind: dict(plan.of(kind)) for kind in KINDS})


def memory() -> float:
    """The most that the process had, in MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def engine(large: bool) -> None:
    """Engine times on the demo and on synthetic fleets, and the ratio to networkx where that can do the fleet."""
    print(f"{platform.machine()}, Python {platform.python_version()}\n")
    print("| plan | endpoints | compile | compile and judge | findings | risks | networkx | ratio |")
    print("|---|---|---|---|---|---|---|---|")
    demo = read_plan((ROOT / "demo" / "brackwater.json").read_bytes())
    thousand = fleet(1000, 80, 400)
    plans = [(demo, 50, False), (fleet(50), 9, True), (fleet(200), 5, True), (thousand, 5, False)]
    judged_in: dict[str, float] = {}
    for plan, times, compared in plans:
        compiled = timed(lambda plan=plan: compile_wiring(fresh(plan)), times)  # type: ignore[misc]
        judged = judged_in[plan.name] = timed(lambda plan=plan: judge(fresh(plan)), times)  # type: ignore[misc]
        judgement = judge(plan)
        found, risky = (
            statistics.median(first_telling(plan, tell) for _ in range(times)) for tell in (findings, risks)
        )
        row = [
            plan.name,
            f"{len(judgement.verdicts()):,}",
            *(f"{s * 1000:.1f} ms" for s in (compiled, judged, found, risky)),
        ]
        if compared:
            plain = timed(partial(homeless, plan), 3)
            if homeless(plan) != {e for e, v in judgement.verdicts().items() if v != "home"}:
                raise SystemExit(f"networkx and the engine disagree on {plan.name}")
            row += [f"{plain * 1000:.0f} ms", f"{plain / judged:.1f}"]
        else:
            row += ["–", "–"]
        print("| " + " | ".join(row) + " |", flush=True)
    print(f"\nmost memory of the process so far: {memory():.0f} MB")
    edits(thousand, "1,000")
    floor(judge(thousand))
    profile(thousand)
    stamping(thousand)
    where_to(thousand)
    topologies(thousand)
    queue_plans(thousand)
    loads(thousand)
    routed = with_routers(thousand)
    rules(routed)
    meet(routed)
    leases(routed)
    adverts(routed)
    if large:
        many = fleet(10_000, 80, 400)
        small: list[float] = []
        whole: list[float] = []
        for _ in range(3):
            small += all_times(lambda: judge(fresh(thousand)), 4)
            whole += all_times(lambda: judge(fresh(many)), 1)
        print(
            f"\n10,000 hosts with {len(many.of('adapter')):,} adapters: {min(whole):.2f} s, {min(whole) / min(small):.1f} times 1,000 hosts"
            " (taken in turns, the least of each)"
        )
        edits(many, "10,000")
        print(f"\nmost memory of the process: {memory():.0f} MB")


RULES = (
    "keep segment {0} apart from segment {1} on layer 2",
    "keep segment {0} apart from segment {1}",
    "let segment {0} reach segment {1}",
    "let segment {0} reach segment {1} on tcp 22",
    "keep segment {0} apart from everything on layer 2",
    "keep segment {0} apart from everything even if hostile",
    "keep role management apart from role production",
    "every host reaches segment {0}",
    "segment {0} carries 1500",
    "role storage and role production share no NIC",
)


def guests_segments(plan: Plan) -> list[str]:
    """The names of the segments of guests, as rules have them."""
    return [quoted(s.name) for s in sorted(plan.all("segment"), key=lambda s: s.id) if s.vid >= 1000]


def rules(plan: Plan) -> None:
    """Rules by themselves, 200 of them together, and all of these after an edit of one adapter."""
    names = guests_segments(plan)
    judgement = judge(plan)
    asked(judgement).ask(RULES[1].format(names[-1], names[-2]))
    print(f"\nRules of {len(names)} segments and {len(plan.where('station', 'routes', True))} routers\n")
    print("| rule | fares | asked in |\n|---|---|---|")
    for rule in RULES:
        text = rule.format(*names[8:10])
        took = all_times(lambda text=text: asked(judgement).ask(text), 1)[0]  # type: ignore[misc]
        print(f"| {text} | {asked(judgement).ask(text).outcome} | {took * 1000:.0f} ms |", flush=True)
    two_hundred(plan)


def two_hundred(plan: Plan) -> None:
    """200 rules together, and what they and the risks cost after an edit of each of several kinds."""
    names = guests_segments(plan)
    texts = [RULES[n % 3].format(names[n], names[-1 - n]) for n in range(200)]
    known, _ = apply_edit(plan, tuple(Put(Rule(id=f"rule-{n}", text=text)) for n, text in enumerate(texts)))
    judged = judge(known)
    voices(judged)
    # As in the web server, nobody waits for Python's search for cycles.
    with no_collecting():
        first = all_times(lambda: asked(judged).rules(), 1)[0]
        risks(judged)
        print(f"\n200 rules: {first:.2f} s; {additions():.2f} s for additions\n")
        print("| edit | judge | rules | risks |\n|---|---|---|---|")
        edits: list[tuple[str, Edit]] = [
            ("an adapter is disconnected", (Patch("adapter", min(known.of("adapter")), {"connected": False}),)),
            ("a filter line", (Patch("filter_line", "line-3-4", {"ports": "443"}),)),
            ("a segment’s name", (Patch("segment", "seg-1009", {"name": "berth"}),)),
            (
                "a route of the router in the middle",
                (Patch("route", "in-3", {"to": known.get("route", "in-3").to[1:]}),),
            ),
        ]
        for name, edit in edits:
            plan_after, _ = apply_edit(known, edit)
            begun = time.perf_counter()
            after = rejudge(judged, plan_after, touched(edit))
            took = time.perf_counter() - begun
            again = all_times(lambda of=after: asked(of).rules(), 1)[0]  # type: ignore[misc]
            told = all_times(lambda of=after: risks(of), 1)[0]  # type: ignore[misc]
            print(f"| {name} | {took * 1000:.0f} ms | {again * 1000:.0f} ms | {told * 1000:.0f} ms |", flush=True)


def where_to(plan: Plan) -> None:
    """Guest by host, and a host taken out."""
    judgement = judge(plan)
    judgement.counts()
    first = timed(lambda: Moving(judgement).all(), 3)
    host = min(plan.of("host"))
    moving(judgement).all()
    out = timed(lambda: clear(judgement, host), 3)
    found = moving(judgement)
    print(
        f"\nMoves: {len(plan.of('guest')):,} guests by {len(plan.of('host')):,} hosts ({len(found.fitness.wants)} wants) in {first:.2f} s; "
        f"a host taken out in {out * 1000:.0f} ms",
        flush=True,
    )


def meet(plan: Plan) -> None:
    """Segments against each other."""
    judgement = judge(plan)
    judgement.counts()
    edit = (Patch("adapter", min(plan.of("adapter")), {"connected": False}),)
    with no_collecting():
        took = all_times(lambda: Meeting(judgement).all(), 1)[0]
        after = rejudge(judgement, apply_edit(plan, edit)[0], touched(edit))
        anew = all_times(lambda: Meeting(after).all(), 1)[0]
    print(
        f"\nMeetings of {len(plan.of('segment'))} segments: {took:.2f} s; after an adapter is disconnected {anew:.2f} s; {additions():.2f} s for additions",
        flush=True,
    )


def leases(static: Plan) -> None:
    """What it costs to judge who gets which lease, on the same fleet with static addresses and with leases, and after an edit."""
    plan = with_leases(static)
    took = [timed(lambda p=p: judge(fresh(p)), 3) for p in (static, plan)]  # type: ignore[misc]
    plan.indexed()
    judgement = judge(plan)
    findings(judgement)
    risks(judgement)
    print(
        f"\n{len(judgement.leases):,} ask for a lease of {len(plan.of('lease_scope'))} scopes, half of them over relays: judged in {took[1]:.2f} s, with"
        f" static addresses in {took[0]:.2f} s\n"
    )
    print("| edit | judge | findings and risks |\n|---|---|---|")
    group = plan.where("port_group", "switch", "host-5/guests")[0].id
    listed: list[tuple[str, Edit]] = [
        ("an adapter is disconnected", (Patch("adapter", "host-5/a3", {"connected": False}),)),
        ("a port group's tag", (Patch("port_group", group, {"vid": 1001}),)),
        ("a pool is emptied", (Patch("lease_scope", "scope-3", {"pool": []}),)),
    ]
    _edited(plan, judgement, listed)
    two_hundred(plan)


def adverts(static: Plan) -> None:
    """What it costs to judge who forms which addresses, on the same fleet with static ones and with advertised prefixes, and after an edit."""
    plan = with_adverts(static)
    took = [min(all_times(partial(judge, fresh(one)), 2)) for one in (static, plan)]
    plan.indexed()
    judgement = judge(plan)
    print(
        f"\n{len(judgement.formed):,} form addresses of {len(plan.of('advertisement'))} prefixes: judged in {took[1]:.2f} s, with static"
        f" addresses alone in {took[0]:.2f} s\n\n| edit | judge | findings and risks |\n|---|---|---|"
    )
    risks(judgement)
    findings(judgement)
    listed: list[tuple[str, Edit]] = [
        ("an adapter is disconnected", (Patch("adapter", next(iter(plan.of("adapter"))), {"connected": False}),)),
        ("a router offers itself no more", (Patch("advertisement", "advert-3", {"router": False}),)),
        (
            "a router advertises another prefix",
            (Patch("advertisement", "advert-3", {"prefixes": ["2001:db8:99::/64"]}),),
        ),
    ]
    _edited(plan, judgement, listed)


def _edited(plan: Plan, judgement: Judgement, listed: Iterable[tuple[str, Edit]]) -> None:
    """Rows of what edits cost, each of which must come to what a judgement from nothing says."""
    for name, edit in listed:
        after, _ = apply_edit(plan, edit)
        judged = timed(partial(rejudge, judgement, after, touched(edit)), 5)
        told = statistics.median(_telling(judgement, after, edit) for _ in range(5))
        if rejudge(judgement, after, touched(edit)).counts() != judge(fresh(after)).counts():
            raise SystemExit(f"after {name} the engine says something else than from scratch")
        print(f"| {name} | {judged * 1000:.0f} ms | {told * 1000:.0f} ms |", flush=True)


def stamping(plan: Plan) -> None:
    """A pattern made of one host and stamped on all: the edit, its preview, the differences of all hosts afterwards, and an edit from then on."""
    hosts = sorted(plan.of("host"))
    before = judge(plan.indexed())
    risks(before)
    made = preview(before, from_host(plan, hosts[0], "all alike"))
    risks(made.judgement)
    pattern = next(iter(made.plan.of("pattern")))
    whole = timed(lambda: judge(fresh(made.plan)), 3)
    composed = timed(lambda: stamp(made.plan, pattern, hosts), 3)
    edit = stamp(made.plan, pattern, hosts)
    seen = timed(lambda: preview(made.judgement, edit), 3)
    after = preview(made.judgement, edit)
    told = timed(lambda: risks(after.judgement), 1)
    group = after.plan.where("port_group", "switch", "host-5/guests")[0]
    one = preview(after.judgement, (Patch("port_group", group.id, {"name": "another"}),))
    off = timed(lambda: risks(one.judgement), 1)
    print(
        f"\nA pattern stamped on {len(hosts):,} hosts, an edit of {len(edit):,} records; judging the plan from nothing takes {whole:.2f} s\n"
    )
    print(
        "| compose the edit | preview it | risks, the hosts off their pattern among them | risks after one more edit |"
    )
    print("|---|---|---|---|")
    print(f"| {composed:.2f} s | {seen:.2f} s | {told:.2f} s | {off * 1000:.1f} ms |", flush=True)


def first_telling(plan: Plan, tell: Callable[[Judgement], object]) -> float:
    """Seconds for telling of a judgement of which nothing was told yet."""
    judgement = judge(plan)
    return timed(partial(tell, judgement), 1)


def edits(plan: Plan, hosts: str) -> None:
    """One edit of each kind on a judged fleet: applying, judging, what moves, findings and risks."""
    check_plan(plan)  # as a plan that was read has been: its indexes are there
    plan.indexed()
    leaf = next(p for p in sorted(plan.of("fabric_port")) if p.startswith("leaf-3a/p"))
    groups = plan.where("port_group", "switch", "host-5/guests")
    listed: list[tuple[str, Edit]] = [
        ("a port group's tag", (Patch("port_group", groups[0].id, {"vid": 1001}),)),
        ("a tag nobody had before", (Patch("port_group", groups[1].id, {"vid": 2222}),)),
        ("an adapter moved", (Patch("adapter", "host-5/a3", {"port_group": groups[5].id}),)),
        ("a host port's tag", (Patch("host_port", "host-77/mgmt", {"vid": None}),)),
        ("a port's allowed list", (Patch("fabric_port", leaf, {"allowed": "110, 120"}),)),
        ("a trunk's allowed list", (Patch("fabric_port", "leaf-9a/up", {"allowed": "110, 120, 1000-1399"}),)),
        ("a NIC without link", (Patch("nic", "host-40/nic0", {"link": "down"}),)),
        ("a rack's cable taken away", (Drop("cable", "c-leaf-4b"),)),
    ]
    print(
        f"\n| edit on {hosts} hosts | endpoints that move | apply | judge | at its least | moves | findings and risks | together |"
    )
    print("|---|---|---|---|---|---|---|---|")
    for name, edit in listed:
        # Each from a judgement of its own: what an edit before it added to the VID classes would stay.
        judgement = judge(plan)
        risks(judgement)  # which makes the plan's indexes that an edit takes along
        apply_edit(plan, edit)
        applied = timed(partial(apply_edit, plan, edit), 7)
        after, _ = apply_edit(plan, edit)
        times = all_times(partial(rejudge, judgement, after, touched(edit)), 15)
        judged = statistics.median(times)
        now = rejudge(judgement, after, touched(edit))
        if now.counts() != judge(fresh(after)).counts():
            raise SystemExit(f"after {name} the engine says something else than from scratch")
        moving = timed(partial(moves, judgement, now), 7)
        told = statistics.median(_telling(judgement, after, edit) for _ in range(9))
        row = [
            name,
            str(len(moves(judgement, now))),
            *(
                f"{s * 1000:.1f} ms"
                for s in (applied, judged, min(times), moving, told, applied + judged + moving + told)
            ),
        ]
        print("| " + " | ".join(row) + " |", flush=True)


def _telling(judgement: Judgement, after: Plan, edit: Edit) -> float:
    """Seconds for findings and risks after an edit, when those before it are known."""
    findings(judgement)
    risks(judgement)
    now = rejudge(judgement, after, touched(edit))
    started = time.perf_counter()
    findings(now)
    risks(now)
    return time.perf_counter() - started


def floor(judgement: Judgement) -> None:
    """One NumPy pass over the judge's own arrays: groups looked up, sorted by segment, counted."""
    rows, ways, columns = judgement.landing.rows, judgement.landing.ways, judgement.landing.columns

    def once() -> object:
        component = judgement.domains.component[np.maximum(rows.node, 0)]
        order = np.lexsort((component, columns.segment[ways.stand]))
        fresh_run = np.r_[True, np.diff(component[order]) != 0]
        return np.add.reduceat(columns.weight[ways.stand][order], np.flatnonzero(fresh_run))

    least = timed(once, 50)
    edit = (Patch("host_port", "host-77/mgmt", {"vid": None}),)
    after, _ = apply_edit(judgement.plan, edit)
    judged = timed(partial(rejudge, judgement, after, touched(edit)), 7)
    print(
        f"\none NumPy pass over the same arrays: {least * 1000:.1f} ms; judging after an edit is {judged / least:.0f} times that"
    )


def profile(plan: Plan) -> None:
    """Where the time of judging a whole fleet goes."""
    profiler = cProfile.Profile()
    subject = fresh(plan)
    profiler.enable()
    judge(subject)
    profiler.disable()
    out = io.StringIO()
    pstats.Stats(profiler, stream=out).sort_stats("tottime").print_stats(12)
    lines = [line for line in out.getvalue().splitlines() if "/" in line and "seconds" not in line][:12]
    print("\n| own seconds (profiled) | function |\n|---|---|")
    for line in lines:
        parts = line.split(None, 5)
        print(f"| {parts[1]} | {parts[-1].rsplit('/', 1)[-1]} |")


class Asking:
    """Requests of one session to a running server: the largest answer, and the path of the part after the latest."""

    def __init__(self, url: str, password: str) -> None:
        self.url, self.jar = url, CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))
        self.largest = 0
        self.following = ""
        self("GET", "session")
        self("POST", "session", {"username": "ines", "password": password})

    def __call__(self, method: str, path: str, body: Any = None) -> Any:
        """The JSON answer."""
        request = urllib.request.Request(f"{self.url}/api/{path}", method=method)
        if body is not None:
            request.data = json.dumps(body).encode()
            request.add_header("Content-Type", "application/json")
        request.add_header("X-CSRFToken", next((c.value or "" for c in self.jar if c.name == "csrftoken"), ""))
        with self.opener.open(request, timeout=300) as response:
            raw = response.read()
            link = re.match(r'</api/(.*)>; rel="next"', response.headers["Link"] or "")
        self.following = link[1] if link else ""
        self.largest = max(self.largest, len(raw))
        return json.loads(raw) if raw else None


def server() -> None:
    """A thousand hosts through server and database: the verdict request after an edit, and the largest answer."""
    import os
    import subprocess

    from ops import serve
    from ops.machine import DATA, PYTHON

    file = DATA / "fleet-1000.json"
    file.write_bytes(write_plan(fleet(1000, 80, 400)))
    load = (
        "import django,sys,time;django.setup();from aptwire.plan.file import read_plan;"
        "from aptwire_server.plans.commits import create_plan;began=time.perf_counter();"
        "plan=read_plan(open(sys.argv[1],'rb').read());read=time.perf_counter();"
        "print(create_plan(plan,None).pk,read-began,time.perf_counter()-read)"
    )
    with serve.throwaway_server() as running:
        made = subprocess.run(
            [str(PYTHON), "-c", load, str(file)],
            env={**os.environ, **running.env},
            capture_output=True,
            text=True,
            check=True,
        )
        plan, read, stored = made.stdout.split()
        print(
            f"\na plan file of {file.stat().st_size / 1e6:.0f} MB is read and checked in {float(read):.1f} s, stored in {float(stored):.1f} s"
        )
        ask = Asking(running.url, running.password("ines"))
        ask("GET", f"plans/{plan}")
        ask.largest = 0
        started, path, pages = time.perf_counter(), f"plans/{plan}/page", 0
        while path:
            ask("GET", path)
            path = ask.following
            pages += 1
        whole = time.perf_counter() - started
        took: dict[str, list[float]] = {"edit": [], "verdicts": []}
        for n in range(12):
            edit = [{"op": "patch", "kind": "host_port", "id": f"host-{n}/mgmt", "set": {"vid": None}}]
            started = time.perf_counter()
            ask("POST", f"plans/{plan}/edits", {"base": n, "message": "bench", "edit": edit})
            middle = time.perf_counter()
            ask("GET", f"plans/{plan}/verdicts")
            took["edit"].append(middle - started)
            took["verdicts"].append(time.perf_counter() - middle)
        print("\n| request on 1,000 hosts | median | slowest |\n|---|---|---|")
        for name, words in (
            ("edit", "an edit, with its verdicts, moves and findings in the answer"),
            ("verdicts", "the verdicts after it"),
        ):
            print(f"| {words} | {statistics.median(took[name]) * 1000:.0f} ms | {max(took[name]) * 1000:.0f} ms |")
        _drafts(ask, plan, running.web)
        print(
            f"\nthe whole plan in {pages} pages: {whole:.1f} s; the largest answer of all: {ask.largest / 1e6:.2f} MB"
        )


def _drafts(ask: Asking, plan: str, web: Part) -> None:
    """Ten drafts of a thousand hosts, an edit in each: what they add to the memory of the web server; one brought along, one landed."""

    def holds() -> float:
        assert web.process is not None
        status = pathlib.Path(f"/proc/{web.process.pid}/status").read_text()
        return int(next(line for line in status.splitlines() if line.startswith("VmRSS")).split()[1]) / 1024

    def patched(of: str, base: int, n: int) -> None:
        edit = [{"op": "patch", "kind": "host_port", "id": f"host-{n}/mgmt", "set": {"vid": None}}]
        ask("POST", f"plans/{of}/edits", {"base": base, "message": "bench", "edit": edit})

    before, took, drafts = holds(), [], []
    for n in range(10):
        started = time.perf_counter()
        draft = ask("POST", f"plans/{plan}/drafts", {"name": f"draft {n}", "private": False})["id"]
        patched(draft, 0, 100 + n)
        for part in ("", "/verdicts", "/could", "/teams"):
            ask("GET", f"plans/{draft}{part}")
        took.append(time.perf_counter() - started)
        drafts.append(draft)
    after = holds()
    started = time.perf_counter()
    patched(plan, 12, 200)
    edited = time.perf_counter()
    ask("GET", f"plans/{drafts[0]}")
    along = time.perf_counter()
    ask("POST", f"plans/{drafts[0]}/land", {"message": "bench"})
    landed = time.perf_counter()
    print(
        f"\nten drafts, each begun, edited and asked for its verdicts in {statistics.median(took) * 1000:.0f} ms: the web server holds {after:.0f} MB, "
        f"{before:.0f} MB before ({(after / before - 1) * 100:.0f} % more); an edit of the plan meanwhile {1000 * (edited - started):.0f} ms, "
        f"a draft brought along and told {1000 * (along - edited):.0f} ms, landed in {1000 * (landed - along):.0f} ms"
    )


WATCH = """(wanted) => new Promise((done) => {
    const started = performance.now();
    const look = () => document.querySelector(wanted.at)?.textContent === wanted.text
        ? requestAnimationFrame(() => done(performance.now() - started)) : setTimeout(look, 1);
    document.activeElement.dispatchEvent(new KeyboardEvent("keydown", { key: "z", ctrlKey: true, shiftKey: wanted.redo, bubbles: true }));
    look();
})"""


def _undone(page: Any) -> list[float]:
    """Milliseconds from the key to the painted count: a finding is mended, and that is undone and made again in turns."""
    at = "[data-verdict=home] b"
    page.locator(".finding-head").filter(has_text="tagged").first.click()
    page.locator(".mend").first.wait_for()
    before = page.locator(at).text_content()
    page.locator(".mend").first.click()
    page.wait_for_function("(b) => document.querySelector('[data-verdict=home] b').textContent !== b", arg=before)
    after = page.locator(at).text_content()
    page.locator("#view").focus()
    took = []
    for n in range(12):
        took.append(page.evaluate(WATCH, {"at": at, "text": after if n % 2 else before, "redo": bool(n % 2)}))
        page.wait_for_timeout(150)
    return took


LOOK = """({ at, text, gone }) => {
    const found = document.querySelector(at);
    return Boolean(found && found.textContent.includes(text)) !== gone;
}"""


def shown(page: Any, at: str, text: str = "", gone: bool = False) -> None:
    """Wait until the first element at a selector says something, or no more, looked for in each frame: a locator would look every half second."""
    page.wait_for_function(LOOK, arg={"at": at, "text": text, "gone": gone}, polling="raf")


def screen() -> None:
    """From Enter on a mend or a tag to the changed number in the verdict column, in a real browser on the real server."""
    from playwright.sync_api import sync_playwright

    from ops import serve
    from ops.machine import DATA
    from tests.web.support import ARGUMENTS, CHROMIUM

    large = DATA / "fleet-100.json"
    large.write_bytes(write_plan(fleet(100, 12)))
    print("\n| plan | from the key (undo, redo) to the new counts on screen |\n|---|---|")
    with serve.throwaway_server() as running, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=str(CHROMIUM), args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(running.url)
        page.get_by_label("Name").fill("ines")
        page.get_by_label("Password").fill(running.password("ines"))
        page.get_by_role("button", name="Log in").click()
        page.get_by_role("heading", name="Plans").wait_for()
        for file, name in ((ROOT / "demo" / "brackwater.json", "Brackwater Ferries"), (large, "100 hosts")):
            page.goto(f"{running.url}/plans")
            page.get_by_label("Plan file").set_input_files(str(file))
            page.get_by_role("heading", name=name).wait_for()
            took = _undone(page)
            print(f"| {name} | median {statistics.median(took):.0f} ms, slowest {max(took):.0f} ms |", flush=True)
        page.set_default_timeout(300_000)
        _thousand(page, running.url, DATA / "fleet-1000.json")
        browser.close()


def _thousand(page: Any, url: str, plan: pathlib.Path) -> None:
    """A thousand hosts in the browser: imported and opened, its views, how smoothly it scrolls, what it holds."""

    def took(
        words: str, act: Callable[[], object], until: Callable[[], object], *more: tuple[str, Callable[[], object]]
    ) -> None:
        """From an act to what is waited for, and to what comes later of the same act."""
        before, started = additions(), time.perf_counter()
        act()
        seconds = {}
        for name, wait in ((words, until), *more):
            wait()
            seconds[name] = time.perf_counter() - started
        given = (before + additions()) / 2
        for name, found in seconds.items():
            print(f"| {name} | {found:.2f} s | {given:.2f} s |", flush=True)

    def view(name: str) -> Any:
        # Asked of all that is drawn, names of links and buttons take a second by themselves.
        return page.locator("nav.rail").get_by_role("link", name=name, exact=True)

    fleet_drawn = partial(shown, page, ".fleet-host")
    page.goto(f"{url}/plans")
    print("\n| 1,000 hosts in the browser | time | three million additions in Python about then |\n|---|---|---|")
    file = page.get_by_label("Plan file")
    took("a plan file imported, opened and drawn from far", lambda: file.set_input_files(str(plan)), fleet_drawn)
    took("opened again", page.reload, fleet_drawn)
    took("Landing, opened", view("Landing").click, partial(shown, page, ".landing-sheet .rgCell"))
    took("Ledger, opened", view("Ledger").click, partial(shown, page, ".ledger .rgCell"))
    took("Lattice, opened", view("Lattice").click, partial(shown, page, ".by-hosts .rgCell"))
    took("Strand, opened", view("Strand").click, partial(shown, page, "[role=treeitem]"))
    took("Decks, opened again", view("Decks").click, fleet_drawn)
    nearer = page.get_by_role("radiogroup", name="How close").get_by_text("Guests")
    took("from far to near", nearer.click, partial(shown, page, ".column-head"))
    follow = page.get_by_role("combobox", name="Follow")
    follow.fill("manage")
    page.get_by_role("option").first.wait_for()
    drawn = partial(shown, page, ".canvas.following")
    took("a segment followed", lambda: page.keyboard.press("Enter"), drawn)
    frames = page.evaluate(
        """() => new Promise((done) => {
            const canvas = document.querySelector(".canvas");
            const times = [];
            const step = (now) => {
                times.push(now);
                canvas.scrollLeft += 40;
                if (times.length < 120) requestAnimationFrame(step);
                else done((times.length - 1) / ((times.at(-1) - times[0]) / 1000));
            };
            requestAnimationFrame(step);
        })"""
    )
    session = page.context.new_cdp_session(page)
    session.send("HeapProfiler.collectGarbage")
    session.send("Performance.enable")
    held = next(m["value"] for m in session.send("Performance.getMetrics")["metrics"] if m["name"] == "JSHeapUsedSize")
    undone = _undone(page)
    view("Patterns").click()
    page.get_by_label("Name", exact=True).fill("all alike")
    page.get_by_label("Made of").select_option("host host-0")
    page.get_by_role("button", name="Make it").click()
    page.get_by_role("button", name="Stamp it on hosts").click()
    form = page.locator(".patterns-stamp")
    all_of_them = form.get_by_role("button", name="in sight")
    all_of_them.wait_for()
    stamping = partial(shown, page, ".patterns-stamp")
    told = partial(stamping, "records would be made or changed")
    brings = ("with what else it would bring", partial(stamping, "is still being looked for", gone=True))
    took("a pattern stamped on all, who moves", all_of_them.click, told, brings)
    saved = partial(shown, page, ".status", "Stamp all alike on")
    took("saved", form.get_by_role("button", name="Stamp 1,000 hosts").click, saved)
    print(
        f"\nan edit with its new verdicts on screen: median {statistics.median(undone):.0f} ms, quickest {min(undone):.0f} ms, slowest {max(undone):.0f} ms"
    )
    print(
        f"\nscrolled sideways past hosts at {frames:.0f} frames a second; the page holds {held / 1e6:.0f} MB of JavaScript’s heap"
    )


if __name__ == "__main__":
    engine("--large" in sys.argv)
    if "--screen" in sys.argv:
        server()
        screen()
