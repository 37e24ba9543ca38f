"""The drawing of Decks, measured in the page: nothing overlaps, nothing is cut off that must be read, lines keep to free stretches."""

from __future__ import annotations

import contextlib
import json
import random
import re
import sys
import unittest
from collections.abc import Sequence
from itertools import zip_longest
from typing import Any
from urllib.parse import parse_qs, urlsplit

from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Drop, Patch, Put, apply_edit, edit_to_json
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.kinds import KINDS, Adapter
from aptwire.plan.plan import Plan, PlanError
from aptwire.report import summary
from playwright.sync_api import Page, Route, expect

from measure.fleet import fleet
from tests.server.support import URL
from tests.support import ROOT, random_plan
from tests.web.support import BrowserTest, someone

CARDS = ".guest, .tab, .slot, .host-port, .nic, .port, .bar, .socket"

OVERLAPS = """(selector) => {
  const cards = [...document.querySelectorAll(selector)].map((n) => ({ n, r: n.getBoundingClientRect() })).filter((c) => c.r.width);
  const said = [];
  for (let i = 0; i < cards.length; i++) for (let j = i + 1; j < cards.length; j++) {
    const [a, b] = [cards[i], cards[j]];
    if (a.n.contains(b.n) || b.n.contains(a.n)) continue;
    const w = Math.min(a.r.right, b.r.right) - Math.max(a.r.left, b.r.left);
    const h = Math.min(a.r.bottom, b.r.bottom) - Math.max(a.r.top, b.r.top);
    const inBar = [a, b].some((c) => c.n.className.includes("bar")) && [a, b].some((c) => c.n.className.includes("socket"));
    if (w > 1.5 && h > 1.5 && !inBar) said.push(`${a.n.className} “${a.n.textContent}” over ${b.n.className} “${b.n.textContent}”`);
  }
  return said.slice(0, 5);
}"""

CROSSINGS = """() => {
  const inner = document.querySelector(".canvas-inner").getBoundingClientRect();
  const cards = [...document.querySelectorAll(".guest, .tab, .slot, .host-port, .nic, .port")].map((n) => ({ n, r: n.getBoundingClientRect() }));
  const said = [];
  for (const path of document.querySelectorAll("svg.lines:not(.under) > path")) {
    if (path.getAttribute("stroke").includes("exposed")) continue;
    const length = path.getTotalLength();
    for (let at = 6; at < length - 6; at += 4) {
      const p = path.getPointAtLength(at);
      const [x, y] = [p.x + inner.left, p.y + inner.top];
      const hit = cards.find((c) => x > c.r.left + 2 && x < c.r.right - 2 && y > c.r.top + 2 && y < c.r.bottom - 2);
      if (hit) { said.push(`a line crosses ${hit.n.className} “${hit.n.textContent}”`); break; }
    }
  }
  return said.slice(0, 5);
}"""

OUTSIDE = """(selector) => {
  const column = (x) => [...document.querySelectorAll(".column")].map((n) => n.getBoundingClientRect()).find((r) => x >= r.left && x <= r.right);
  return [...document.querySelectorAll(selector)].filter((n) => {
    const r = n.getBoundingClientRect(), c = column(r.left + r.width / 2);
    return c && (r.left < c.left || r.right > c.right);
  }).map((n) => n.className).slice(0, 5);
}"""

CUT = """() => [...document.querySelectorAll(".slot-tag, .hp-name, .hp-address, .nic-name, .port-name, .port-missing, .port-carried, .chip, .trunk-end, .count-word")]
  .filter((n) => n.scrollWidth > n.clientWidth + 1 && getComputedStyle(n).display !== "inline").map((n) => `${n.className}: ${n.textContent}`).slice(0, 5)"""

# The hosts, the fabric and the lines as they are drawn, and what the verdicts say.
DRAWN = """() => [...document.querySelectorAll("#view section, #view svg.lines, .reason, .finding, .counts b")]
  .map((n) => n.outerHTML.replace(/<path ([^>]*)>/g, (_, said) => said.split(/ (?=[a-z-]+=)/).sort().join(" ")))"""


def unlike(one: Page, two: Page) -> list[tuple[str, str]]:
    """What two pages draw otherwise, from where it differs on."""
    pairs = zip_longest(one.evaluate(DRAWN), two.evaluate(DRAWN), fillvalue="")
    found = []
    for a, b in pairs:
        if a != b:
            at = max(0, next((n for n, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), 0) - 200)
            found.append((a[at : at + 400], b[at : at + 400]))
    return found


KINDS_OF_PAGES = (*KINDS, "endpoint")


def small_pages(page: Page, most: int, told: Sequence[str]) -> list[str]:
    """Have a plan come to a page of the browser in pages of so many records or endpoints of one kind alone; which of their cursors were asked for, in
    time.  Where these are told with what the plan says of itself, that is what is asked for side by side."""
    asked: list[str] = []

    def cut(route: Route) -> None:
        cursor = parse_qs(urlsplit(route.request.url).query).get("after", [f"{KINDS_OF_PAGES[0]}:0"])[0]
        asked.append(cursor)
        answer = route.fetch()
        body, (at, _, first) = answer.json(), cursor.partition(":")
        found = {**body["records"], "endpoint": body["endpoints"]}
        kind = next(name for name in KINDS_OF_PAGES[KINDS_OF_PAGES.index(at) :] if found.get(name))
        rows, begin = found[kind][0], int(first) if kind == at else 0
        for name, column in rows["fields"].items():
            if isinstance(column, list):
                rows["fields"][name] = column[:most]
            else:
                column["at"] = column["at"][:most]
        more, rows["count"] = rows["count"] > most, min(most, rows["count"])
        body["records"] = {} if kind == "endpoint" else {kind: [rows]}
        body["endpoints"] = [rows] if kind == "endpoint" else []
        after = (
            f"{kind}:{begin + most}"
            if more
            else f"{KINDS_OF_PAGES[KINDS_OF_PAGES.index(kind) + 1]}:0"
            if kind != "endpoint"
            else None
        )
        headers = {name: value for name, value in answer.headers.items() if name != "link"}
        if after:
            headers["link"] = f'</page?after={after}>; rel="next"'
        route.fulfill(response=answer, headers=headers, json=body)

    def head(route: Route) -> None:
        answer = route.fetch()
        route.fulfill(response=answer, json={**answer.json(), **({"pages": told} if told else {})})

    page.unroute_all()
    page.route("**/page?after=*", cut)
    page.route(re.compile(r"/api/plans/[0-9a-f-]{36}$"), head)
    return asked


NAMED = ("guest", "nic", "segment", "host", "fabric_switch", "fabric_port", "lag", "virtual_switch", "uplink")
VIDS = (110, 210, 220, 777)


def elsewhere(plan: Plan, dice: random.Random) -> Patch | Drop | Put:
    """An adapter on another port group, a NIC in another uplink, a guest on another host, something with another name or tag; or one gone, or a new one."""

    def some(kind: str) -> str:
        return dice.choice(sorted(plan.of(kind)))

    return dice.choice(
        [
            Patch("adapter", some("adapter"), {"port_group": dice.choice([None, some("port_group")])}),
            Patch("nic", some("nic"), {"uplink": dice.choice([None, some("uplink")])}),
            Patch("guest", some("guest"), {"host": some("host")}),
            *(Patch(kind, some(kind), {"name": f"{kind} {dice.random()}"}) for kind in NAMED),
            *(Patch(kind, some(kind), {"vid": dice.choice(VIDS)}) for kind in ("port_group", "host_port", "guest_tag")),
            Patch("fabric_port", some("fabric_port"), {"allowed": "220,210"}),
            Patch("segment", some("segment"), {"vid": dice.choice(VIDS)}),
            Drop("adapter", some("adapter")),
            Put(Adapter(id=f"new-{dice.random()}", guest=some("guest"), name=f"eth{dice.random()}")),
        ]
    )


class DrawingTest(BrowserTest):
    def opened(self, plan: dict[str, Any] | bytes) -> None:
        raw = plan if isinstance(plan, bytes) else json.dumps(plan).encode()
        _, made = someone().upload("plans/import", [], [("file", "p.json", raw)])
        # As it is by itself, or with every guest.
        level = "" if isinstance(plan, bytes) else "?level=host"
        self.page.goto(f"{URL}/plans/{made['id']}/decks{level}")
        expect(self.page.locator(".column, .fleet-host").first).to_be_visible()

    def sound(self) -> None:
        """Cards don't overlap, stay in their column, and no line runs over one, whichever segment is followed."""
        self.assertEqual(self.page.evaluate(OVERLAPS, CARDS), [])
        self.assertEqual(self.page.evaluate(OUTSIDE, ".guest, .tab, .slot, .host-port, .nic, .port"), [])
        chips = self.page.locator(".chip")
        for n in range(min(chips.count(), 8)):
            if chips.nth(n).get_attribute("aria-pressed") == "false":
                chips.nth(n).click()
            expect(chips.nth(n)).to_have_attribute("aria-pressed", "true")
            self.page.wait_for_timeout(250)
            self.becomes(lambda: self.page.evaluate(CROSSINGS), [])

    def test_a_segment_is_followed_by_typing_part_of_it(self) -> None:
        field = self.page.get_by_role("combobox", name="Follow")
        field.fill("240")
        expect(self.page.get_by_role("option")).to_have_text(re.compile("CCTV"))
        self.page.keyboard.press("Enter")
        expect(self.page).to_have_url(re.compile("follow=segment-cctv"))
        expect(self.page.get_by_role("button", name="CCTV 240")).to_have_attribute("aria-pressed", "true")
        field.fill("no such thing")
        expect(self.page.get_by_text("No segment by that name, VID or subnet.")).to_be_visible()
        self.page.keyboard.press("Escape")
        expect(field).to_have_value("CCTV")

    def test_the_hosts_in_sight_are_saved_as_a_drawing(self) -> None:
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name="Save as SVG").click()
        self.assertEqual(download.value.suggested_filename, "Brackwater-Ferries-decks.svg")
        drawn = download.value.path().read_text()
        for host in ("fulmar", "gannet", "kittiwake", "petrel", "razorbill"):
            self.assertIn(f">{host}<", drawn)

    def test_the_demo(self) -> None:
        self.sound()
        self.assertEqual(self.page.evaluate(CUT), [])

    def test_names_as_long_as_they_may_be(self) -> None:
        plan = json.loads((ROOT / "demo" / "brackwater.json").read_text())
        for kind in ("host", "guest", "segment", "port_group", "virtual_switch"):
            for n, record in enumerate(plan["records"][kind]):
                record["name"] = f"{record['name']}-{n}-which-is-called-as-long-as-a-name-may-ever-become-in-a-plan"[
                    :80
                ]
        self.opened(plan)
        self.sound()
        self.assertFalse(
            self.page.evaluate("document.documentElement.scrollWidth > innerWidth"), "the page itself scrolls sideways"
        )
        self.accessible()

    def test_hosts_with_many_switches_adapters_and_nics(self) -> None:
        plan = json.loads((ROOT / "demo" / "brackwater.json").read_text())
        records = plan["records"]
        for n in range(7):
            records["nic"].append({"id": f"gannet/x{n}", "host": "gannet", "name": f"x{n}"})
        for n in range(9):
            records["virtual_switch"].append({"id": f"gannet/v{n}", "host": "gannet", "name": f"v{n}"})
            records["port_group"].append(
                {"id": f"gannet/v{n}/g", "switch": f"gannet/v{n}", "name": "inside", "mode": "untagged"}
            )
        for n in range(23):
            records["guest"].append({"id": f"more-{n}", "host": "gannet", "name": f"more-{n}"})
            records["adapter"].append(
                {"id": f"more-{n}/a", "guest": f"more-{n}", "name": f"tap-more-{n}", "port_group": f"gannet/v{n % 9}/g"}
            )
        for n in range(11):
            records["adapter"].append({"id": f"db/{n}", "guest": "guest-ticketing-db", "name": f"tap-db-{n}"})
            records["adapter"][-1]["port_group"] = "gannet/guests0/ticketing"
        self.opened(plan)
        self.sound()
        # So many guests are gathered unless somebody wants them all.
        self.page.goto(self.page.url.split("?")[0])
        expect(self.page.get_by_role("button", name="30 guests of gannet")).to_be_visible()
        self.sound()
        self.page.get_by_role("button", name="30 guests of gannet").click()
        expect(self.page.get_by_role("button", name="more-22", exact=True)).to_be_attached()
        self.sound()

    def test_long_switch_names_leave_the_port_and_a_cut_tag_list_says_so(self) -> None:
        plan = json.loads((ROOT / "demo" / "brackwater.json").read_text())
        for switch in plan["records"]["fabric_switch"]:
            switch["name"] = f"the-distribution-switch-{switch['name']}"
        for n in range(40):
            port = {"id": f"free-{n}", "switch": "quay-a", "name": f"Ethernet1/0/{n}", "mode": "access", "vid": 110}
            plan["records"]["fabric_port"].append(port)
        self.opened(plan)
        self.sound()
        port = self.page.get_by_role("button", name="Port p2 of the-distribution-switch-quay-a")
        expect(port.locator(".port-name")).to_contain_text("p2")
        expect(port.locator(".port-tags")).to_contain_text("+")
        self.page.get_by_role("button", name="more free ports of the-distribution-switch-quay-a").click()
        self.page.get_by_role("group", name="What to do").get_by_role("button", name="Ports").click()
        self.page.get_by_role("list", name="Its ports").get_by_role("button", name="Ethernet1/0/39").click()
        expect(self.page.get_by_role("dialog", name="Port Ethernet1/0/39")).to_be_visible()
        self.page.keyboard.press("Escape")
        # More ports than the server works out at once.
        self.page.get_by_role("button", name="nic3, member").click()
        choices = self.page.get_by_role("listbox", name="Ports").get_by_role("option")
        self.assertGreater(choices.count(), 42)
        self.page.keyboard.press("ArrowUp")
        expect(self.page.get_by_role("dialog").locator(".told")).not_to_contain_text("Working out")

    def test_random_fleets(self) -> None:
        for seed in (3, 5, 8, 21, 34):
            with self.subTest(seed=seed):
                self.opened(write_plan(random_plan(seed)))
                self.assertEqual(self.page.evaluate(OVERLAPS, CARDS), [])
                self.assertEqual(self.page.evaluate(OUTSIDE, CARDS.removesuffix(", .bar, .socket")), [])

    def test_what_edits_of_others_leave_is_what_a_page_that_begins_anew_shows(self) -> None:
        plan, dice, sent = read_plan((ROOT / "demo" / "brackwater.json").read_bytes()), random.Random(11), 0
        anew = self.page.context.new_page()
        # A followed segment that runs otherwise has all drawn anew, so half of the time none is.
        for follow in ("&follow=none", ""):
            address = f"{URL}/plans/{self.plan}/decks?level=host{follow}"
            self.page.goto(address)
            expect(self.page.locator(".column").first).to_be_visible()
            for _ in range(8):
                few = sent + 3
                while sent < few:
                    edit = (elsewhere(plan, dice),)
                    with contextlib.suppress(PlanError):
                        after, _ = apply_edit(plan, edit)
                        body = {"base": sent, "message": "x", "edit": edit_to_json(edit)}
                        if after != plan and someone().post(f"plans/{self.plan}/edits", body)[0] == 200:
                            plan, sent = after, sent + 1
                anew.goto(address)
                expect(anew.locator(".column").first).to_be_visible()
                for page in (self.page, anew):
                    expect(page.locator(".revision")).to_have_text(f"revision {few}")
                    page.wait_for_load_state("networkidle")
                self.becomes(lambda: unlike(self.page, anew), [])

    def test_a_plan_that_comes_in_many_pages_is_drawn_as_one_that_comes_in_one(self) -> None:
        anew, address = self.page.context.new_page(), f"{URL}/plans/{self.plan}/decks"
        asked: list[str] = []
        # Where pages begin isn't told at first, and then it is; something differs before all that came was read.
        for revision in (1, 2):
            in_order = sorted(
                asked, key=lambda cursor: (KINDS_OF_PAGES.index(cursor.split(":")[0]), int(cursor.split(":")[1]))
            )
            asked = small_pages(self.page, 7, in_order)
            self.page.goto(f"{address}?level=fleet")
            expect(self.page.locator(".fleet-host")).to_have_count(5)
            self.assertGreater(len(asked), 40)
            name = f"card{revision}"
            patch = {"op": "patch", "kind": "adapter", "id": "adapter-berth-planner", "set": {"name": name}}
            self.assertEqual(someone().edit(self.plan, revision - 1, patch)[0], 200)
            self.page.get_by_role("radiogroup", name="How close").get_by_text("Guests").click()
            anew.goto(f"{address}?level=host")
            for page in (self.page, anew):
                expect(page.locator(".revision")).to_have_text(f"revision {revision}")
                expect(page.locator(f".tab[aria-label^='{name} of']")).to_be_visible()
                page.wait_for_load_state("networkidle")
            self.becomes(lambda: unlike(self.page, anew), [])

    def test_of_hundreds_of_findings_those_are_in_the_page_to_which_somebody_scrolls(self) -> None:
        plan = fleet(60, 12, faults=0.3)
        raw = write_plan(plan)
        last = summary(judge(plan))["findings"][-1]
        self.opened(raw)
        column = self.page.get_by_role("complementary", name="Verdicts")
        listed = column.locator("ol.findings > li")
        expect(listed).to_have_count(60)
        self.accessible()
        expect(column.get_by_role("button", name="126 more")).to_be_attached()
        expect(column.get_by_text("Nothing else is wrong.")).to_have_count(0)
        for many in (120, 180, 186):
            column.evaluate("n => n.scrollTo(0, n.scrollHeight)")
            expect(listed).to_have_count(many)
        expect(column.get_by_role("button", name=last["title"])).to_be_attached()
        # Somebody follows a link to the last one.
        self.page.goto(f"{self.page.url.split('?')[0]}?finding={last['id']}")
        expect(column.get_by_role("button", name=last["title"])).to_have_attribute("aria-expanded", "true")
        expect(column.get_by_role("button", name=last["title"])).to_be_in_viewport()
        expect(column.get_by_text("Nothing else is wrong.")).to_be_attached()

    def test_a_hundred_hosts_are_found_by_filter_and_scrolled_with_few_elements(self) -> None:
        raw = write_plan(fleet(100, 24))
        self.opened(raw)
        # So many are seen from far at first: each a mark, by hall and rack; keys lead from one to the next, Enter to it.
        marks = self.page.get_by_role("group", name="The fleet by site and rack")
        expect(marks.get_by_role("button")).to_have_count(100)
        self.accessible()
        first = marks.get_by_role("button", name="tern-0000:")
        first.focus()
        self.page.keyboard.press("ArrowRight")
        expect(marks.get_by_role("button", name="tern-0001:")).to_be_focused()
        # The cables between switches, over which a segment is followed.
        between = marks.get_by_role("group", name="Cables between switches").get_by_role("img")
        self.assertGreater(between.count(), 4)
        expect(self.page.get_by_role("button", name="Save as SVG")).to_be_disabled()
        self.page.get_by_label("Filter hosts by name or site").fill("tern-0077")
        expect(marks.locator(".fleet-host:not(.back)")).to_have_count(1)
        self.page.get_by_label("Filter hosts by name or site").fill("")
        marks.get_by_role("button", name="tern-0001:").focus()
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("button", name="tern-0001 hall 0")).to_be_visible()
        self.page.keyboard.press("-")
        self.page.keyboard.press("-")
        expect(marks).to_be_visible()
        self.page.keyboard.press("+")
        # Nearer, guests are gathered; those of one host unfold, and nearer still all stand each for itself.
        strip = self.page.get_by_role("button", name="24 guests of tern-0000")
        expect(strip).to_have_attribute("aria-expanded", "false")
        guest = self.page.get_by_role("button", name="guest-0-3", exact=True)
        expect(guest).to_have_count(0)
        expect(self.page.get_by_role("img", name="all home").first).to_be_visible()
        self.accessible()
        strip.focus()
        self.page.keyboard.press("Enter")
        expect(guest).to_be_visible()
        expect(strip).to_have_attribute("aria-expanded", "true")
        self.page.keyboard.press("Enter")
        expect(guest).to_have_count(0)
        self.page.keyboard.press("+")
        expect(guest).to_be_visible()
        few = self.page.evaluate("document.querySelectorAll('*').length")
        self.assertLess(few, 3000)
        self.page.get_by_label("Filter hosts by name or site").fill("tern-0077")
        expect(self.page.locator(".column-head")).to_have_count(1)
        expect(self.page.get_by_role("button", name="tern-0077 hall 0")).to_be_visible()
        self.page.get_by_label("Filter hosts by name or site").fill("nobody")
        expect(self.page.get_by_text("No host matches “nobody”")).to_be_visible()
        self.page.get_by_role("button", name="Show all 100").click()
        self.page.locator(".canvas").evaluate("n => n.scrollTo(n.scrollWidth, 0)")
        expect(self.page.get_by_role("button", name="tern-0099 hall 0")).to_be_visible()
        self.page.keyboard.press("Control+k")
        self.page.keyboard.type("guest-50-3")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("button", name="guest-50-3", exact=True)).to_be_focused()
        self.page.get_by_role("button", name="Export").click()
        with self.page.expect_download() as download:
            self.page.get_by_role("menuitem", name="Plan file").click()
        self.assertEqual(download.value.path().read_bytes(), raw, "the parts of the file are put together again")

    def test_folding_all_hosts_leaves_the_fabric(self) -> None:
        for host in ("fulmar", "gannet", "razorbill", "kittiwake", "petrel"):
            self.page.locator(".column-head").first.click()
            expect(self.page.locator(f'.column-closed[data-id="{host}"]')).to_be_visible()
        expect(self.page.locator(".bar")).to_have_count(4)
        self.assertEqual(self.page.evaluate(OVERLAPS, ".column-closed, .bar"), [])
        self.page.locator('.column-closed[data-id="gannet"]').click()
        expect(self.page.get_by_role("button", name="gannet Northquay")).to_be_visible()


class KeyboardTest(BrowserTest):
    def test_everything_on_the_drawing_is_reached_by_tab(self) -> None:
        wanted = self.page.locator(".canvas-inner button:visible").count()
        self.page.locator(".canvas-inner button").first.focus()
        seen = set()
        for _ in range(wanted + 5):
            inside = self.page.evaluate(
                "document.activeElement.closest('.canvas-inner') ? document.activeElement.outerHTML.slice(0, 400) : ''"
            )
            if not inside:
                break
            seen.add(inside)
            self.page.keyboard.press("Tab")
        self.assertGreaterEqual(len(seen), wanted)

    def test_number_keys_change_the_view_but_not_while_typing(self) -> None:
        self.page.keyboard.press("2")
        expect(self.page.get_by_role("treegrid", name="Landing of every endpoint")).to_be_visible()
        self.page.get_by_label("Filter", exact=True).fill("")
        self.page.keyboard.type("10.65.30.31")
        expect(self.page.get_by_role("treegrid", name="Landing of every endpoint")).to_be_visible()
        expect(self.page.get_by_text("1 of 56 places shown")).to_be_visible()

    def test_f_follows_the_segment_of_what_is_focused(self) -> None:
        self.page.get_by_role("button", name="Port group edge, tag 300").first.focus()
        self.page.keyboard.press("f")
        expect(self.page.get_by_role("button", name="edge 300")).to_have_attribute("aria-pressed", "true")

    def test_the_skip_link_leads_to_the_view(self) -> None:
        self.page.evaluate("document.body.focus()")
        self.page.keyboard.press("Tab")
        skip = self.page.get_by_role("link", name="To the view")
        expect(skip).to_be_focused()
        self.page.keyboard.press("Enter")
        expect(self.page.locator("#view")).to_be_focused()


if __name__ == "__main__":
    sys.exit(unittest.main())
