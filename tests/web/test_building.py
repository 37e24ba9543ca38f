"""Building on Decks: each sequence as a person would go through it, by keyboard where it can be."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import Locator, expect

from tests.server.support import URL, patch
from tests.web.support import BrowserTest, someone


class BuildingCase(BrowserTest):
    size = (1500, 900)

    def host(self, name: str) -> Locator:
        """A host's column, in sight."""
        column = self.page.get_by_role("region", name=f"Host {name}")
        if name in ("kittiwake", "petrel"):
            self.page.locator(".canvas").evaluate("n => n.scrollTo(n.scrollWidth, 0)")
        expect(column.get_by_role("button").first).to_be_visible()
        return column

    def opened(self, button: Locator, section: str = "") -> Locator:
        """The panel of what a button stands for, at a section."""
        button.click()
        panel = self.page.get_by_role("dialog")
        if section:
            panel.get_by_role("button", name=section, exact=True).click()
        return panel

    def taken(self, panel: Locator, number: int) -> None:
        """What was filled in is taken, and becomes a revision."""
        panel.get_by_role("button", name="Take it").click()
        self.revision(number)

    def revision(self, number: int) -> None:
        expect(self.page.get_by_text(f"revision {number}", exact=True)).to_be_visible()


class TogetherTest(BuildingCase):
    def test_port_groups_of_one_name_are_limited_on_every_host_by_one_edit(self) -> None:
        press = self.page.keyboard.press
        self.host("fulmar").get_by_role("button", name=re.compile("^Port group tide gauges")).focus()
        press("x")
        bar = self.page.get_by_role("toolbar", name="Picked")
        expect(bar.get_by_role("status")).to_have_text("1 port group picked: tide gauges")
        press("Shift+X")
        expect(bar.get_by_role("status")).to_have_text("4 port groups picked: tide gauges")
        press("e")
        panel = self.page.get_by_role("dialog", name="4 port groups")
        expect(panel.get_by_label("VID")).to_have_attribute("placeholder", "they differ")
        self.accessible()
        panel.get_by_role("button", name=re.compile("^More")).click()
        panel.get_by_label("May send").fill("fast")
        expect(panel.get_by_text("May send: a whole number is needed")).to_be_visible()
        panel.get_by_label("May send").fill("20000")
        expect(panel.get_by_text("no verdict changes")).to_be_visible()
        panel.get_by_label("VID").fill("230")
        expect(panel.get_by_text("1 astray → home")).to_be_visible()
        panel.get_by_role("button", name="Take it").click()
        self.revision(1)
        expect(
            self.host("petrel").get_by_role("button", name=re.compile("^Port group tide gauges, tag 230"))
        ).to_be_visible()
        press("Control+z")
        self.revision(2)

    def test_adapters_of_several_hosts_move_to_the_group_of_one_name(self) -> None:
        for host, guest in (("gannet", "berth-planner"), ("fulmar", "crew-roster")):
            tab = self.host(host).get_by_role("button", name=re.compile(f"^tap-{guest} of"))
            tab.click(modifiers=["Control"])
        bar = self.page.get_by_role("toolbar", name="Picked")
        expect(bar.get_by_role("status")).to_have_text("2 adapters picked: tap-berth-planner, tap-crew-roster")
        bar.get_by_role("button", name="Edit together").click()
        panel = self.page.get_by_role("dialog", name="2 adapters")
        panel.get_by_role("button", name="Move").click()
        expect(panel.get_by_role("option")).to_have_text(
            [
                re.compile(name)
                for name in ("berth planning", "edge300 on guests0", "restore", "ticketing", "tide gauges")
            ]
        )
        panel.get_by_role("option", name=re.compile("^edge")).click()
        self.revision(1)
        expect(self.count("astray")).to_have_text("5")
        bar.get_by_role("button", name="Let go").click()
        expect(bar).to_be_hidden()


class SwitchTest(BuildingCase):
    def test_a_wired_switch_from_nic_to_guest_by_keyboard(self) -> None:
        press = self.page.keyboard.press
        self.page.get_by_role("button", name="razorbill Northquay").focus()
        press("n")
        panel = self.page.get_by_role("dialog", name="A new switch on razorbill")
        nics = panel.get_by_role("listbox", name="NICs of razorbill")
        expect(nics).to_be_focused()
        expect(nics.get_by_role("option").first).to_contain_text("nic2 25G, link up, MTU 9000")
        expect(nics.get_by_role("option").first).to_contain_text("free; quay-b p11, 130")
        self.accessible()
        press("Space")
        press("Enter")
        expect(panel.get_by_label("Tag")).to_be_focused()
        self.page.keyboard.type("130")
        expect(panel.get_by_label("Name")).to_have_attribute("placeholder", "storage")
        press("Enter")
        guests = panel.get_by_role("listbox", name="Adapters on razorbill")
        expect(guests).to_be_focused()
        for _ in range(4):
            press("ArrowDown")
        press("Space")
        expect(guests.get_by_role("option").nth(4)).to_contain_text("astray")
        expect(panel.get_by_text("1 home → astray")).to_be_visible()
        press("Space")
        expect(panel.get_by_text("no verdict changes")).to_be_visible()
        press("Enter")
        expect(
            self.host("razorbill").get_by_role("button", name="Port group storage, tag 130, 0 adapters")
        ).to_be_visible()
        expect(self.host("razorbill").get_by_role("button", name="nic2, alone")).to_be_visible()
        self.revision(1)
        press("Control+z")
        expect(self.host("razorbill").get_by_role("button", name="nic2, free")).to_be_visible()

    def test_a_sealed_switch_takes_as_few_keys(self) -> None:
        press = self.page.keyboard.press
        self.page.get_by_role("button", name="gannet Northquay").focus()
        press("n")
        expect(self.page.get_by_role("listbox", name="NICs of gannet")).to_be_focused()
        press("Enter")
        press("Enter")
        press("Enter")
        expect(self.host("gannet").get_by_role("button", name="Switch switch0, sealed")).to_be_visible()

    def test_what_a_taken_nic_costs_is_said_before(self) -> None:
        self.page.get_by_role("button", name="gannet Northquay").focus()
        self.page.keyboard.press("n")
        panel = self.page.get_by_role("dialog")
        panel.get_by_role("option").filter(has_text="nic0 10G").click()
        expect(panel.get_by_text("guests0 keeps nic1 only")).to_be_visible()
        panel.get_by_role("option").filter(has_text="nic1 10G").click()
        expect(panel.get_by_text(re.compile("worse off:"))).to_be_visible()
        panel.get_by_label("Team").select_option("hashed")
        self.page.keyboard.press("Escape")
        self.revision(0)

    def test_a_nic_of_the_host_s_own_moves_its_address_onto_a_host_port(self) -> None:
        nic = self.host("razorbill").get_by_role("button", name="nic2, free")
        panel = self.opened(nic, "Settings")
        panel.get_by_role("button", name=re.compile("^More")).click()
        panel.get_by_label("Host’s own").fill("10.64.130.15/24")
        panel.get_by_role("button", name="Take it").click()
        nic = self.host("razorbill").get_by_role("button", name="nic2, the host’s own")
        nic.focus()
        self.page.keyboard.press("n")
        panel = self.page.get_by_role("dialog")
        panel.get_by_role("option").filter(has_text="nic2").click()
        expect(panel.get_by_text("the host’s address moves onto a host port")).to_be_visible()
        panel.get_by_role("button", name="Make it").click()
        expect(
            self.host("razorbill").get_by_role("button", name=re.compile("^Host port nic2-host, untagged, "))
        ).to_be_visible()

    def test_another_port_group_and_a_host_port_on_a_switch(self) -> None:
        self.host("razorbill").get_by_role("button", name="Switch guests0, wired").focus()
        self.page.keyboard.press("g")
        panel = self.page.get_by_role("dialog", name="Build on guests0 of razorbill")
        panel.get_by_role("button", name="Port group none yet").click()
        panel.get_by_label("Tag").fill("4095")
        expect(panel.get_by_text("A VID is a number from 1 to 4094")).to_be_visible()
        panel.get_by_label("Tag").fill("220")
        expect(panel.get_by_text("no verdict changes")).to_be_visible()
        panel.get_by_role("button", name="Make it").click()
        expect(self.host("razorbill").get_by_role("button", name="Port group berth planning, tag 220")).to_be_visible()
        panel = self.opened(self.host("razorbill").get_by_role("button", name="Switch guests0, wired"), "Host port")
        panel.get_by_label("VID").fill("130")
        panel.get_by_label("Services").fill("storage")
        panel.get_by_label("Belongs on").select_option(label="storage 130")
        expect(panel.get_by_text("1 new → stranded")).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Make it").click()
        expect(self.host("razorbill").get_by_role("button", name="Host port port0, tag 130, stranded")).to_be_visible()
        expect(self.finding("razorbill’s port0 is cut off")).to_be_visible()

    def test_a_switch_goes_with_all_that_hangs_on_it(self) -> None:
        panel = self.opened(self.host("fulmar").get_by_role("button", name="Switch store0, wired"), "Remove")
        expect(panel.get_by_text("2 records that hang on it go with it")).to_be_visible()
        expect(panel.get_by_text("home → gone")).to_be_visible()
        panel.get_by_role("button", name="Remove store0").click()
        expect(self.host("fulmar").get_by_role("button", name="nic2, free")).to_be_visible()
        self.page.keyboard.press("Control+z")
        expect(self.host("fulmar").get_by_role("button", name="nic2, alone")).to_be_visible()


class PartsTest(BuildingCase):
    def test_a_nic_is_dragged_into_another_uplink(self) -> None:
        nic = self.host("razorbill").get_by_role("button", name="nic2, free")
        team = self.host("razorbill").get_by_role("button", name=re.compile("^team0"))
        a, b = nic.bounding_box(), team.bounding_box()
        assert a and b
        self.page.mouse.move(a["x"] + 20, a["y"] + 12)
        self.page.mouse.down()
        self.page.mouse.move(a["x"] - 20, a["y"] - 10, steps=4)
        self.page.mouse.move(b["x"] + 20, b["y"] + 8, steps=6)
        expect(self.page.locator(".slot-outcome").first).to_be_visible()
        self.page.mouse.up()
        expect(self.host("razorbill").get_by_role("button", name="nic2, member")).to_be_visible()
        expect(self.finding("team0 mixes NICs").or_(self.finding("uplink team0 of razorbill mixes"))).to_be_visible()

    def test_a_nic_leaves_its_uplink_by_keyboard(self) -> None:
        nic = self.host("gannet").get_by_role("button", name="nic1, waits")
        nic.focus()
        nic.press("Enter")
        self.page.get_by_role("button", name="Uplink", exact=True).press("Enter")
        choices = self.page.get_by_role("listbox", name="Uplinks")
        expect(choices).to_contain_text("team0 keeps nic0")
        self.page.keyboard.press("ArrowUp")
        self.page.keyboard.press("Enter")
        expect(self.host("gannet").get_by_role("button", name="nic1, free")).to_be_visible()

    def test_a_guest_is_made_and_lands(self) -> None:
        panel = self.opened(self.page.get_by_role("button", name="Build on razorbill"), "Guest")
        panel.get_by_label("Guest").fill("pilot-office")
        panel.get_by_label("Port group").select_option("ticketing")
        # The next one that nobody has, where its tag leads, is offered.
        records = [r for of in someone().whole(self.plan)["records"].values() for r in of]
        held = {a.partition("/")[0] for r in records for a in r.get("addresses", ())}
        free = next(f"10.65.10.{n}" for n in range(2, 255) if f"10.65.10.{n}" not in held)
        panel.get_by_role("button", name=f"{free}/24 is free").click()
        expect(panel.get_by_label("Addresses")).to_have_value(f"{free}/24")
        expect(panel.get_by_role("button", name=" is free")).to_have_count(0)
        panel.get_by_label("Addresses").fill("10.65.10.77/24")
        expect(panel.get_by_text("1 new → home")).to_be_visible()
        self.page.keyboard.press("Enter")
        expect(
            self.page.get_by_role("button", name=re.compile("^tap-pilot-office of pilot-office: home, in ticketing"))
        ).to_be_visible()
        expect(self.count("home")).to_have_text("35")

    def test_adapters_are_attached_to_a_port_group_together(self) -> None:
        slot = self.host("fulmar").get_by_role("button", name="Port group edge, tag 300")
        slot.click()
        self.page.get_by_role("button", name="All that it allows and limits").click()
        panel = self.page.get_by_role("dialog", name="Port group edge")
        panel.get_by_role("button", name="Attach", exact=True).click()
        choices = panel.get_by_role("listbox", name="Adapters")
        choices.press("Space")
        choices.press("ArrowDown")
        choices.press("Space")
        expect(panel.get_by_text(re.compile("2 .* → astray|1 .* → astray"))).to_be_visible()
        self.accessible()
        choices.press("Enter")
        expect(self.host("fulmar").get_by_role("button", name="Port group edge, tag 300, 2 adapters")).to_be_visible()

    def test_guards_and_limits_are_set_and_a_deviation_is_told(self) -> None:
        tab = self.page.get_by_role("button", name=re.compile("^tap-ticketing-db of"))
        panel = self.opened(tab, "Settings")
        panel.get_by_role("button", name=re.compile("^More")).click()
        panel.get_by_label("Overhear others").select_option("allowed")
        panel.get_by_label("May send").fill("9000")
        panel.get_by_label("… at its peak").first.fill("8000")
        expect(panel.get_by_text("the peak rate 8000 is below the committed rate 9000")).to_be_visible()
        panel.get_by_label("… at its peak").first.fill("12000")
        panel.get_by_role("button", name="Take it").click()
        expect(tab).to_have_accessible_name(re.compile("deviates from its port group"))
        self.finding("1 adapter of port group ticketing of gannet deviates").click()
        self.page.get_by_role("button", name="Let them follow port group ticketing").click()
        expect(tab).not_to_have_accessible_name(re.compile("deviates"))

    def test_a_port_group_gets_a_team_order_of_its_own(self) -> None:
        slot = self.host("gannet").get_by_role("button", name=re.compile("^Port group firewall"))
        panel = self.opened(slot, "Team order")
        panel.get_by_label("nic1").select_option("active")
        panel.get_by_label("nic0").select_option("standby")
        panel.get_by_role("button", name="Take it").click()
        expect(slot).to_have_accessible_name(re.compile("own team order"))

    def test_a_direct_adapter_goes_past_the_switch(self) -> None:
        tab = self.page.get_by_role("button", name=re.compile("^tap-ticketing-watch of"))
        tab.focus()
        self.page.keyboard.press("m")
        choices = self.page.get_by_role("listbox", name="Port groups")
        choices.get_by_role("option").filter(has_text="past the switch, through nic1").click()
        expect(self.page.get_by_role("alert")).to_contain_text("is direct and bypasses the switch")
        self.page.keyboard.press("Escape")
        tab = self.page.get_by_role("button", name=re.compile("^tap-visitor-kiosk-1 of"))
        tab.focus()
        self.page.keyboard.press("m")
        choices.get_by_role("option").filter(has_text="past the switch, through nic1").click()
        expect(tab).to_have_accessible_name(re.compile("past the switch on nic1"))
        expect(self.opened(tab, "Settings").get_by_text("guards, limits and mirrors don’t apply to it")).to_be_visible()

    def test_a_mirror_is_set_up_and_taken_away(self) -> None:
        tab = self.page.get_by_role("button", name=re.compile("^tap-ticketing-web-1 of"))
        panel = self.opened(tab, "Mirror")
        panel.get_by_label("Show it to").select_option(label="berth-planner tap-berth-planner")
        panel.get_by_role("button", name="Mirror it").click()
        expect(tab).to_have_accessible_name(re.compile("mirrored"))
        expect(self.finding("berth-planner is shown the frames of ticketing-web-1")).to_be_visible()
        panel = self.opened(tab, "Mirror")
        panel.get_by_role("button", name=re.compile("^Remove: is shown to tap-berth-planner")).click()
        expect(tab).not_to_have_accessible_name(re.compile("mirrored"))


class FabricTest(BuildingCase):
    def test_ports_a_lag_and_a_station(self) -> None:
        bar = self.page.get_by_role("button", name="Fabric switch quay-b")
        panel = self.opened(bar, "Ports")
        panel.get_by_label("How many").fill("2")
        panel.get_by_label("Trunk for VIDs").fill("210, 220")
        panel.get_by_role("button", name="Add them").click()
        expect(self.page.get_by_role("button", name="Free port p3 of quay-b")).to_be_visible()
        panel = self.opened(bar, "LAG")
        panel.get_by_role("option").filter(has_text="p3").click()
        panel.get_by_role("option").filter(has_text="p4").click()
        self.accessible()
        panel.get_by_role("button", name="Join as lag0").click()
        self.revision(2)
        panel = self.opened(self.page.get_by_role("button", name="Free port p4 of quay-b"), "Station")
        panel.get_by_label("Station").fill("tide-modem")
        panel.get_by_label("Tag").fill("210")
        panel.get_by_role("button", name="Plug it in").click()
        socket = self.page.get_by_role("button", name="tide-modem on port p4 of quay-b")
        self.revision(3)
        # What hangs on a part is opened and changed from its list.
        self.opened(socket, "Station").get_by_role("button", name="tide-modem", exact=True).click()
        panel = self.page.get_by_role("dialog", name="Station tide-modem")
        panel.get_by_text("Forwards", exact=True).click()
        self.taken(panel, 4)
        panel = self.opened(socket, "Station")
        expect(panel.get_by_text("routes between its interfaces")).to_be_visible()
        panel.get_by_role("button", name="tide-modem tag 210", exact=True).click()
        panel = self.page.get_by_role("dialog", name="tide-modem tag 210")
        panel.get_by_label("Addresses").fill("10.65.10.9/24")
        self.taken(panel, 5)
        self.opened(bar, "LAG").get_by_role("button", name="lag0: p3, p4, LACP", exact=True).click()
        panel = self.page.get_by_role("dialog", name="LAG lag0")
        panel.get_by_text("By LACP", exact=True).click()
        self.taken(panel, 6)

    def test_a_private_port_group_from_segment_to_slot(self) -> None:
        self.page.get_by_role("button", name="+ Add").click()
        panel = self.page.get_by_role("dialog", name="Add to the plan")
        panel.get_by_role("button", name="Private VLANs").click()
        panel.get_by_label("Primary").select_option(label="ticketing 210")
        panel.get_by_label("VID").fill("212")
        panel.get_by_label("Type").select_option("community")
        panel.get_by_role("button", name="Add the secondary VLAN").click()
        self.revision(1)
        slot = self.host("razorbill").get_by_role("button", name="Port group ticketing, tag 210")
        slot.click()
        self.page.get_by_role("button", name="All that it allows and limits").click()
        panel = self.page.get_by_role("dialog", name="Port group ticketing")
        panel.get_by_label("Mode").select_option("private")
        panel.get_by_label("VID").fill("99")
        expect(panel.get_by_text("99 is neither a primary nor a secondary VLAN")).to_be_visible()
        panel.get_by_label("VID").fill("212")
        expect(panel.get_by_text(re.compile("3 home → stranded"))).to_be_visible()
        panel.get_by_role("button", name="Take it").click()
        expect(self.host("razorbill").get_by_role("button", name="Port group ticketing, private 212")).to_be_visible()
        self.finding("ticketing-watch are cut off").click()
        self.page.locator(".mend").filter(
            has_text="Make port group ticketing of razorbill an access port group on 210"
        ).click()
        expect(self.count("stranded")).to_have_text("3")

    def test_the_spanning_tree_is_shown_and_turned_off_makes_a_loop(self) -> None:
        expect(self.page.get_by_role("button", name=re.compile("blocked by the spanning tree"))).to_have_count(1)
        bar = self.page.get_by_role("button", name="Fabric switch quay-b")
        panel = self.opened(bar)
        panel.get_by_text("Spanning tree", exact=True).click()
        panel.get_by_role("button", name="Take it").click()
        self.finding("Frames go round and round").click()
        self.page.get_by_role("button", name=re.compile("Turn the spanning tree on at quay-b")).click()
        expect(self.page.get_by_role("button", name=re.compile("blocked by the spanning tree"))).to_have_count(1)

    def firewall(self, section: str) -> Locator:
        """The panel of the firewall guest, at one of its sections."""
        self.page.goto(f"{URL}/plans/{self.plan}/decks?at=guest-edge-firewall")
        self.page.locator('.guest[data-id="guest-edge-firewall"]').click()
        panel = self.page.get_by_role("dialog", name="Guest edge-firewall")
        panel.get_by_role("button", name=section, exact=True).click()
        return panel

    def test_what_a_router_drops_is_said_line_by_line(self) -> None:
        page = self.page
        panel = self.firewall("Filter")
        lines = panel.get_by_role("list", name="Filter lines")
        expect(lines).to_contain_text("10: drop everything from 10.65.40.0/24 to 10.65.30.0/24")
        expect(panel.get_by_label("Order")).to_have_value("50")
        panel.get_by_label("Action").select_option("dropped")
        panel.get_by_label("From subnets").fill("10.65.20.0/24")
        panel.get_by_label("To subnets").fill("10.65.30.0/24")
        # What it would bring is said before it is added.
        expect(panel.get_by_text("A rule is broken: let crew-roster reach tide-model")).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Add the line").click()
        expect(self.finding("A rule is broken: let crew-roster reach tide-model")).to_be_visible()
        page.goto(f"{URL}/plans/{self.plan}/trace?a=adapter-crew-roster&b=adapter-tide-model")
        ping = page.get_by_role("region", name="Ping")
        expect(ping).to_contain_text("edge-firewall drops it, by filter line 50")
        page.get_by_role("textbox", name="As").fill("tcp/80")
        page.keyboard.press("Enter")
        expect(ping).to_contain_text("crew-roster on tcp 80")
        self.accessible()

    def test_who_leases_is_said_and_who_asks_is_answered(self) -> None:
        page = self.page
        # A guest that asks, where the quay's router leases: it gets an address of the pool.
        page.goto(f"{URL}/plans/{self.plan}/landing")
        page.get_by_label("Filter", exact=True).fill("visitor-desk-1")
        expect(page.get_by_text("1 of 56 places shown")).to_be_visible()
        expect(page.get_by_role("gridcell").filter(has_text="10.66.10.100–199")).to_be_visible()
        # The firewall leases nothing for CCTV yet, so a recorder that asks there isn't home.
        page.goto(f"{URL}/plans/{self.plan}/decks?at=adapter-cctv-archive")
        page.locator('.tab[data-id="adapter-cctv-archive"]').click()
        panel = page.get_by_role("dialog")
        panel.get_by_role("button", name="Settings", exact=True).click()
        panel.get_by_label("Address", exact=True).select_option("by lease")
        panel.get_by_label("Addresses").fill("")
        expect(panel.get_by_text("1 home → unproven")).to_be_visible()
        self.taken(panel, 1)
        finding = self.finding("Nobody can know whether cctv-archive tap-cctv-archive gets a lease")
        # The firewall has the gateway: it is offered as who leases, and its panel says so then.
        finding.click()
        page.locator(".mend").filter(has_text="Have edge-firewall lease").click()
        self.revision(2)
        panel = self.firewall("Leases")
        scopes = panel.get_by_role("list", name="Lease scopes")
        expect(scopes).to_contain_text("10.65.40.0/24")
        panel.get_by_label("Subnet").fill("10.65.40.0/24")
        expect(panel.get_by_text("overlaps 10.65.40.0/24").or_(panel.get_by_text("the same"))).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Relay", exact=True).click()
        panel.get_by_label("Asks").fill("10.66.10.1")
        expect(panel.get_by_text("asks nobody who leases addresses there")).to_be_visible()
        self.accessible()

    def test_what_is_let_in_is_answered_by_whom_it_is_for(self) -> None:
        page = self.page
        panel = self.firewall("Lets in")
        panel.get_by_label("Asked at").select_option("wan0")
        panel.get_by_label("Protocol").select_option("tcp")
        panel.get_by_label("Ports").fill("443")
        panel.get_by_label("Is for").fill("2001:db8::1")
        expect(panel.get_by_text("none of IPv4, which alone is translated")).to_be_visible()
        panel.get_by_label("Is for").fill("10.65.10.11")
        panel.get_by_label("At its port").fill("8443")
        self.accessible()
        panel.get_by_role("button", name="Let it in").click()
        self.revision(1)
        listed = self.firewall("Lets in").get_by_role("list", name="Inward translations")
        expect(listed).to_contain_text("wan0: tcp 443 is for 10.65.10.11 port 8443")
        page.goto(f"{URL}/plans/{self.plan}/trace?a=line-router/edge&b=10.66.0.1&on=tcp/443")
        ping = page.get_by_role("region", name="Ping", exact=True)
        expect(ping).to_contain_text("It is tap-ticketing-web-1 of ticketing-web-1, for whom")
        expect(ping.get_by_role("table").first).to_contain_text("for 10.65.10.11 port 8443")
        self.accessible()

    def test_who_advertises_is_said_and_who_listens_forms_an_address(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/landing")
        page.get_by_label("Filter", exact=True).fill("visitor-desk-1")
        expect(page.get_by_role("gridcell").filter(has_text="2001:db8:66:10::/64")).to_be_visible()
        nets = ["10.65.40.0/24", "2001:db8:65:40::/64"]
        someone().edit(self.plan, 0, {"op": "patch", "kind": "segment", "id": "segment-cctv", "set": {"subnets": nets}})
        # A guest at home forms addresses, and nobody says who advertises there.
        page.goto(f"{URL}/plans/{self.plan}/decks?at=adapter-cctv-archive")
        page.locator('.tab[data-id="adapter-cctv-archive"]').click()
        panel = page.get_by_role("dialog")
        panel.get_by_role("button", name="Settings", exact=True).click()
        panel.get_by_label("IPv6 address").select_option("of what is advertised")
        expect(panel.get_by_text("1 home → unproven")).to_be_visible()
        self.taken(panel, 2)
        expect(
            self.finding("Nobody can know whether cctv-archive tap-cctv-archive forms an IPv6 address")
        ).to_be_visible()
        # The firewall advertises there, and its guard lets it.
        panel = self.firewall("Advertises")
        panel.get_by_label("Heard at").select_option("lan0 tag 240")
        panel.get_by_label("Prefixes").fill("2001:db8:65::/56")
        expect(panel.get_by_text("2001:db8:65::/56 has 56 bits")).to_be_visible()
        panel.get_by_label("Prefixes").fill("2001:db8:65:40::/64")
        self.accessible()
        panel.get_by_role("button", name="Add the advertisement").click()
        self.revision(3)
        finding = self.finding("cctv-archive tap-cctv-archive forms no IPv6 address of CCTV")
        finding.click()
        page.locator(".mend").filter(has_text="Let edge-firewall").click()
        self.revision(4)
        expect(finding).not_to_be_visible()

    def test_an_address_of_ipv6_is_leased_and_its_link_advertised(self) -> None:
        page = self.page
        tag = next(t for t in someone().whole(self.plan)["records"]["guest_tag"] if t.get("vid") == 240)
        net, gateway = "2001:db8:65:40::/64", "2001:db8:65:40::1"
        someone().edit(
            self.plan,
            0,
            {"op": "patch", "kind": "segment", "id": "segment-cctv", "set": {"subnets": [net], "gateways": [gateway]}},
            {"op": "patch", "kind": "guest_tag", "id": tag["id"], "set": {"addresses": [f"{gateway}/64"]}},
        )
        page.goto(f"{URL}/plans/{self.plan}/decks?at=adapter-cctv-archive")
        page.locator('.tab[data-id="adapter-cctv-archive"]').click()
        panel = page.get_by_role("dialog")
        panel.get_by_role("button", name="Settings", exact=True).click()
        panel.get_by_label("IPv6 address").select_option("by lease")
        self.taken(panel, 2)
        expect(self.finding("Nobody can know whether cctv-archive tap-cctv-archive gets a lease")).to_be_visible()
        # The firewall leases there; a way out of a lease of IPv6 there is none.
        panel = self.firewall("Leases")
        panel.get_by_label("Subnet").fill(net)
        panel.get_by_label("Pool").fill("2001:db8:65:40::100-2001:db8:65:40::1ff")
        panel.get_by_label("Hands out gateway").fill(gateway)
        expect(panel.get_by_text("a lease of IPv6 says no way out")).to_be_visible()
        panel.get_by_label("Hands out gateway").fill("")
        self.accessible()
        panel.get_by_role("button", name="Add the scope").click()
        self.revision(3)
        finding = self.finding("Nobody can know whether cctv-archive tap-cctv-archive hears anything of its link and")
        finding.click()
        page.locator(".mend").filter(has_text="advertise 2001:db8:65:40::/64").first.click()
        self.revision(4)
        expect(finding).not_to_be_visible()
        expect(self.firewall("Advertises").get_by_role("list", name="Advertisements")).to_contain_text(
            "2001:db8:65:40::/64 as on link alone, itself as the way out"
        )

    def test_what_is_outside_answers_whoever_is_translated(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/trace?a=fulmar/tap-crew-roster")
        to = page.get_by_role("combobox", name="To", exact=True)
        to.fill("inter")
        page.get_by_role("option", name="internet").click()
        ping = page.get_by_role("region", name="Ping", exact=True)
        expect(ping).to_contain_text("internet (198.51.100.1) answers crew-roster")
        expect(ping.get_by_role("table").first).to_contain_text("translated to 10.66.0.1")
        with page.expect_download() as download:
            ping.get_by_role("link", name="Save the frames").click()
        self.assertTrue(download.value.path().read_bytes().startswith(b"\n\r\r\n"))
        self.accessible()
        # Without the translation the line's router gets a packet to which it knows no way back.
        panel = self.firewall("Translation")
        listed = panel.get_by_role("list", name="Translations")
        expect(listed).to_contain_text("everybody")
        self.accessible()
        listed.get_by_role("button", name="remove").click()
        self.revision(1)
        page.goto(f"{URL}/plans/{self.plan}/trace?a=fulmar/tap-crew-roster&b=internet")
        expect(page.get_by_role("region", name="Ping", exact=True)).to_contain_text(
            "it goes into internet, where nobody has 10.65.20.12"
        )
        # The gateway of a segment comes in at a port, and behind that a client's network, which knows the way.
        page.goto(f"{URL}/plans/{self.plan}/decks?at=segment-visitors")
        panel = page.get_by_role("dialog", name="Segment visitors")
        panel.get_by_role("button", name="Outside", exact=True).click()
        panel.get_by_label("Comes in at").select_option("marsh-a p20")
        panel.get_by_role("button", name="Have it come in there").click()
        self.revision(2)
        page.goto(f"{URL}/plans/{self.plan}/decks?at=segment-visitors")
        panel.get_by_role("button", name="Outside", exact=True).click()
        panel.get_by_label("Name").fill("client")
        panel.get_by_label("What is there").fill("10.9.0.0/16")
        self.accessible()
        panel.get_by_role("button", name="Add the network").click()
        self.revision(3)
        page.goto(f"{URL}/plans/{self.plan}/rules")
        page.get_by_role("combobox", name="Write a rule").fill("keep ticketing apart from outside cl")
        expect(page.get_by_role("option", name="client")).to_be_visible()


class GesturesTest(BuildingCase):
    def test_a_guest_moves_to_another_host_and_is_home_there(self) -> None:
        self.page.get_by_role("button", name="ticketing-web-2", exact=True).click()
        panel = self.page.get_by_role("dialog", name="Guest ticketing-web-2")
        panel.get_by_role("button", name="Move", exact=True).click()
        expect(panel.get_by_label("To host")).to_be_focused()
        expect(panel.get_by_role("button", name="Move it")).to_be_disabled()
        panel.get_by_label("To host").select_option("gannet, Northquay")
        expect(panel.get_by_text("no verdict changes")).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Move it").click()
        host = self.page.get_by_role("region", name="Host gannet")
        expect(host.get_by_role("button", name="ticketing-web-2", exact=True)).to_be_visible()
        expect(self.count("home")).to_have_text("34")

    def test_a_role_is_split_off_and_port_groups_are_spread(self) -> None:
        page = self.page
        panel = self.opened(self.host("gannet").get_by_role("button", name="Switch guests0"), "Split off")
        panel.get_by_label("Role").select_option("migration")
        panel.get_by_text("nic1, 10G, from its uplink").click()
        expect(panel.get_by_text("no verdict changes").or_(panel.get_by_text("→"))).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Split it off").click()
        self.revision(1)
        expect(self.host("gannet").get_by_role("button", name="Switch migration, wired")).to_be_visible()
        page.keyboard.press("Control+z")
        self.revision(2)
        panel = self.opened(self.host("gannet").get_by_role("button", name=re.compile("team0")).first, "Spread")
        expect(panel.get_by_role("button", name="Spread them")).to_be_enabled()
        panel.get_by_role("button", name="Spread them").click()
        self.revision(3)
        expect(page.get_by_role("button", name=re.compile("own team order")).first).to_be_visible()

    def test_two_nics_take_each_other_s_place(self) -> None:
        self.page.get_by_role("button", name="nic0, carries").first.click()
        panel = self.page.get_by_role("dialog", name="fulmar nic0")
        panel.get_by_role("button", name="Exchange", exact=True).click()
        panel.get_by_label("nic0 with").select_option(label="nic2, 25G, in store0")
        expect(panel.get_by_text(re.compile("home →"))).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Exchange them").click()
        expect(self.page.get_by_role("status").filter(has_text="Exchange nic0 and nic2 of fulmar")).to_be_visible()
        self.page.keyboard.press("Control+z")
        expect(self.count("home")).to_have_text("34")


class BesideTest(BuildingCase):
    def test_two_hosts_side_by_side_and_made_alike(self) -> None:
        self.page.get_by_role("button", name="gannet Northquay").focus()
        self.page.keyboard.press("c")
        expect(self.page).to_have_url(re.compile("beside=gannet"))
        self.page.get_by_label("Left host").select_option("fulmar")
        self.page.get_by_label("Right host").select_option("petrel")
        table = self.page.get_by_role("region", name="Two hosts side by side")
        row = table.get_by_role("row").filter(has_text="tide gauges")
        expect(row).to_contain_text("1 astray → home")
        neighbours = table.get_by_role("row").filter(has_text="neighbour").filter(has_text="quay-a p2")
        expect(neighbours).to_contain_text("marsh-a p3")
        self.accessible()
        row.get_by_role("button", name="Tag port group tide gauges of petrel as on the other").click()
        expect(row).to_have_count(0)
        expect(self.count("home")).to_have_text("35")
        table.get_by_text("show what is the same too").click()
        expect(row).to_be_visible()
        table.get_by_role("button", name="port group tide gauges of petrel: 230").click()
        slot = self.page.get_by_role("button", name="Port group tide gauges, tag 230").and_(
            self.page.locator("[data-id^='petrel/']")
        )
        expect(slot).to_be_focused()
        self.page.go_back()
        self.page.get_by_role("button", name="Back to the drawing").click()
        expect(self.page.get_by_role("button", name="fulmar Northquay")).to_be_visible()

    def test_guards_limits_and_failover_are_compared_too(self) -> None:
        changes = [
            patch("port_group", "gannet/guests0/ticketing", foreign_source=True, send_rate=50_000),
            patch("uplink", "gannet/guests0/team0", detect="probe"),
        ]
        self.assertEqual(someone().edit(self.plan, 0, *changes)[0], 200)
        self.page.goto(f"{URL}/plans/{self.plan}/decks?beside=gannet+fulmar")
        table = self.page.get_by_role("region", name="Two hosts side by side")
        row = table.get_by_role("row").filter(has_text="port group ticketing")
        expect(row).to_contain_text("foreign source")
        expect(row).to_contain_text("send rate 50000")
        row.get_by_role("button", name="Guard port group ticketing of fulmar as on the other").click()
        row.get_by_role("button", name="Limit port group ticketing of fulmar as on the other").click()
        expect(row).to_have_count(0)
        table.get_by_role("button", name="Let guests0 of fulmar fail over as on the other").click()
        self.revision(4)
        records = someone().whole(self.plan)["records"]
        made = next(g for g in records["port_group"] if g["id"] == "fulmar/guests0/ticketing")
        self.assertEqual((made["foreign_source"], made["send_rate"]), (True, 50_000))
        self.assertEqual(next(u for u in records["uplink"] if u["id"] == "fulmar/guests0/team0")["detect"], "probe")

    def test_an_overlay_port_group_is_made_over_the_host_port_of_the_same_name(self) -> None:
        self.page.goto(f"{URL}/plans/{self.plan}/decks?beside=gannet+petrel")
        table = self.page.get_by_role("region", name="Two hosts side by side")
        row = table.get_by_role("row").filter(has_text="VNI 5010")
        expect(row).to_contain_text("no verdict changes")
        row.get_by_role("button", name="Make port group restore on petrel").click()
        expect(row).to_have_count(0)
        self.revision(1)
        groups = someone().whole(self.plan)["records"]["port_group"]
        made = next(g for g in groups if g["id"].startswith("petrel/") and g["mode"] == "overlay")
        self.assertEqual((made["vni"], made["over"]), (5010, "petrel/guests0/move"))


class BlueprintTest(BuildingCase):
    def test_a_segment_everywhere_and_a_laptop_into_it(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/decks?at=segment-tide-gauges")
        panel = page.get_by_role("dialog", name="Segment tide gauges")
        panel.get_by_role("button", name="Everywhere", exact=True).click()
        expect(panel.get_by_text("wavering → home")).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Bring tide gauges there").click()
        self.revision(1)
        panel = self.opened(page.get_by_role("button", name="Free port p20 of marsh-a"), "Into a segment")
        panel.get_by_label("Segment").select_option(label="ticketing 210")
        self.accessible()
        panel.get_by_role("button", name="Plug it in").click()
        self.revision(2)
        made = next(s for s in someone().whole(self.plan)["records"]["station_port"] if s["port"] == "marsh-a/p20")
        self.assertEqual(made["belongs"], "segment-ticketing")

    def test_a_hosts_bmc_is_said_and_told_where_it_lands_elsewhere(self) -> None:
        page = self.page
        panel = self.opened(page.get_by_role("button", name="Build on fulmar"), "BMC")
        panel.get_by_label("Its own port").select_option("quay-b/x47")
        panel.get_by_label("Belongs on").select_option(label="migration 120")
        self.accessible()
        panel.get_by_role("button", name="Add the BMC").click()
        self.revision(1)
        self.finding("The BMC of fulmar lands nowhere and belongs on migration").click()
        expect(page.get_by_text(re.compile("port x47 of quay-b drops those")).first).to_be_visible()
        panel = self.opened(page.get_by_role("button", name="Build on fulmar"), "BMC")
        expect(panel.get_by_role("list", name="BMC")).to_contain_text("at quay-b x47, untagged")
        panel.get_by_role("button", name=re.compile("^Remove: at quay-b x47")).click()
        self.revision(2)
        panel = self.opened(page.get_by_role("button", name="Build on fulmar"), "Settings")
        panel.get_by_role("button", name="More").click()
        panel.get_by_label("Starts over").select_option(label="migration 120")
        expect(panel.get_by_text("fulmar can’t start over migration")).to_be_visible()
        self.accessible()

    def test_a_fabric_switch_routes_and_is_gone_with_what_does(self) -> None:
        page = self.page
        panel = self.opened(page.get_by_role("button", name="Fabric switch quay-a"), "Route")
        panel.get_by_role("checkbox", name="migration 120").check(force=True)
        panel.get_by_role("checkbox", name="berth planning 220").check(force=True)
        expect(panel.get_by_text("of berth planning somebody else is the gateway")).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Have quay-a route").click()
        self.revision(1)
        records = someone().whole(self.plan)["records"]
        own = [p for p in records["station_port"] if p["port"] == "quay-a/routing"]
        self.assertEqual({p["belongs"] for p in own}, {"segment-migration", "segment-berth-planning"})
        panel = self.opened(page.get_by_role("button", name="Fabric switch quay-a"), "Remove")
        panel.get_by_role("button", name="Remove quay-a").click()
        self.revision(2)
        self.assertNotIn("quay-a routing", [s["name"] for s in someone().whole(self.plan)["records"]["station"]])

    def test_a_bubble_of_a_segment_is_made_and_burst_by_keyboard(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/decks?at=segment-ticketing")
        panel = page.get_by_role("dialog", name="Segment ticketing")
        panel.get_by_role("button", name="Bubble", exact=True).click()
        panel.get_by_label("Where").select_option(label="sealed in a switch on petrel, Saltmarsh")
        expect(panel.get_by_text("8 new → home")).to_be_visible()
        expect(panel.get_by_text("Make bubble lab of edge-firewall, restore-copy and 8 more, apart")).to_be_visible()
        # Who is worse off is called by the name he will have.
        expect(panel.get_by_text("worse off: restore-copy-lab, ticketing-db-lab")).to_be_visible()
        self.accessible()
        panel.get_by_label("A way in for").select_option(label="backup-agent")
        expect(panel.get_by_text("9 new → home")).to_be_visible()
        panel.get_by_label("Name").press("Enter")
        self.revision(1)
        self.assertIn(
            "keep role lab apart from everything even if hostile",
            {rule["text"] for rule in someone().whole(self.plan)["records"]["rule"]},
        )
        [made] = (s["id"] for s in someone().whole(self.plan)["records"]["segment"] if s.get("role") == "lab")
        page.goto(f"{URL}/plans/{self.plan}/decks?at={made}")
        panel = page.get_by_role("dialog", name="Segment lab ticketing")
        panel.get_by_role("button", name="Burst", exact=True).focus()
        page.keyboard.press("Enter")
        expect(panel.get_by_text("9 home → gone")).to_be_visible()
        panel.get_by_role("button", name="Burst lab").focus()
        page.keyboard.press("Enter")
        self.revision(2)
        guests = {guest["name"] for guest in someone().whole(self.plan)["records"]["guest"]}
        self.assertEqual({name for name in guests if name.endswith("-lab")}, set())
        self.assertIn("backup-agent", guests)

    def test_guests_of_a_host_go_behind_a_firewall_guest(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/decks?at=razorbill")
        page.get_by_role("button", name="Build on razorbill").click()
        panel = page.get_by_role("dialog", name="Host razorbill")
        panel.get_by_role("button", name="Behind a firewall", exact=True).click()
        panel.get_by_label("Subnet inside").fill("10.65.40.0/25")
        expect(panel.get_by_text("10.65.40.0/25 overlaps with customs")).to_be_visible()
        panel.get_by_label("Subnet inside").fill("10.79.1.0/24")
        panel.get_by_role("checkbox", name="visitor-kiosk-1").focus()
        page.keyboard.press("Space")
        said = "Put visitor-kiosk-1 behind firewall; internet sees 3 addresses in place of 2"
        expect(panel.get_by_text(said)).to_be_visible()
        self.accessible()
        panel.get_by_role("button", name="Put them behind it").click()
        self.revision(1)
        kiosk = next(
            a for a in someone().whole(self.plan)["records"]["adapter"] if a["id"] == "adapter-visitor-kiosk-1"
        )
        self.assertEqual(kiosk["addresses"], ["10.79.1.2/24"])
        # How many addresses are lent is said where what is outside is.
        page.goto(f"{URL}/plans/{self.plan}/decks?at=line-router")
        panel = page.get_by_role("dialog", name="Station line-router")
        panel.get_by_role("button", name="Outside", exact=True).click()
        expect(panel.get_by_text("internet: whatever nobody here has, translates")).to_be_visible()
        panel.get_by_label("Name", exact=True).fill("clinic")
        panel.get_by_label("What is there").fill("10.70.1.0/24")
        panel.get_by_label("Lends addresses").fill("1")
        panel.get_by_role("button", name="Add the network").click()
        self.revision(2)
        expect(self.finding("3 addresses are taken on edge, and clinic lends 1")).to_be_visible()

    def test_a_role_gets_nics_of_its_own(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/decks?at=segment-migration")
        panel = page.get_by_role("dialog", name="Segment migration")
        panel.get_by_role("button", name="NICs of its own", exact=True).click()
        panel.get_by_label("Hosts").select_option(label="of Northquay")
        panel.get_by_label("NICs", exact=True).fill("nic2")
        expect(
            panel.get_by_text("Give migration nic2 for itself on razorbill; fulmar and gannet have no")
        ).to_be_visible()
        self.accessible()
        panel.get_by_label("Largest packets").fill("9000")
        expect(panel.get_by_text("room for packets of 9,000 bytes")).to_be_visible()
        panel.get_by_role("button", name="Give migration its own").click()
        self.revision(1)
        expect(self.host("razorbill").get_by_role("button", name="Switch migration, wired")).to_be_visible()


class RenumberTest(BuildingCase):
    def test_a_segment_gets_another_number_everywhere(self) -> None:
        self.page.goto(f"{URL}/plans/{self.plan}/decks?at=segment-ticketing")
        panel = self.page.get_by_role("dialog", name="Segment ticketing")
        panel.get_by_role("button", name="Renumber").click()
        field = panel.get_by_label("New VID")
        expect(field).to_be_focused()
        field.fill("220")
        expect(panel.get_by_text("220 is in use already")).to_be_visible()
        field.fill("1210")
        expect(panel.get_by_text("no verdict changes")).to_be_visible()
        self.accessible()
        self.page.keyboard.press("Enter")
        self.revision(1)
        expect(
            self.host("gannet").get_by_role("button", name=re.compile("^Port group ticketing, tag 1210"))
        ).to_be_visible()
        expect(self.count("home")).to_have_text("34")


class EmptyPlanTest(BuildingCase):
    size = (1280, 800)
    strokes = 0

    def press(self, *keys: str) -> None:
        """Keys, each counted."""
        for key in keys:
            self.strokes += 1
            self.page.keyboard.press(key)

    def type(self, text: str) -> None:
        """Text, each letter of it counted."""
        self.strokes += len(text)
        self.page.keyboard.type(text)

    def takes(self, number: int) -> None:
        """Enter takes what stands there, once the server has said what it does, and it becomes a revision."""
        expect(self.page.get_by_role("dialog").locator("button.takes, button[type=submit]").last).to_be_enabled()
        self.press("Enter")
        self.revision(number)
        expect(self.page.get_by_role("dialog")).to_have_count(0)

    def step(self, button: str) -> None:
        """The next step has the focus, and Enter opens it."""
        expect(self.page.get_by_role("button", name=button)).to_be_focused()
        self.press("Enter")
        expect(self.page.get_by_role("dialog")).to_be_visible()

    def switch_on(self, name: str, number: int) -> None:
        """A switch on a host, with its first NIC and a tagged port group."""
        self.step(f"Make a switch on {name}")
        self.press("Space", "Enter")
        self.type("210")
        self.press("Enter")
        self.takes(number)

    def two_at_home(self) -> None:
        """From the list of plans to two hosts whose guests are home."""
        self.page.goto(f"{URL}/plans")
        self.page.get_by_role("button", name="New plan").click()
        self.strokes += 1
        expect(self.page.get_by_label("Name of the new plan")).to_be_focused()
        self.type("Quay")
        self.press("Enter")
        self.step("Add the first host")
        self.accessible()
        self.type("skua")
        self.takes(1)
        self.step("Add a segment")
        self.type("berths")
        self.press("Tab", "Tab")
        self.type("210")
        self.takes(2)
        self.switch_on("skua", 3)
        self.step("Add the fabric switch")
        self.type("pier")
        self.takes(4)
        self.step("Give pier ports")
        self.takes(5)
        self.step("Plug in skua nic0")
        expect(self.page.get_by_role("option").first).to_contain_text("pier p1")
        self.press("Enter")
        self.revision(6)
        self.accessible()
        self.step("Make a guest on skua")
        self.type("desk")
        self.takes(7)
        self.press("a")
        self.type("tern")
        self.takes(8)
        self.switch_on("tern", 9)
        self.step("Plug in tern nic0")
        expect(self.page.get_by_role("option").first).to_contain_text("pier p2")
        self.press("Enter")
        self.revision(10)
        self.step("Make a guest on tern")
        self.type("helm")
        self.takes(11)
        expect(self.count("home")).to_have_text("2")
        expect(self.page.get_by_role("region", name="Next step")).to_have_count(0)
        self.assertLess(self.strokes, 90)

    def test_two_hosts_at_home_from_nothing_by_keyboard_alone(self) -> None:
        self.two_at_home()
        for tab in ("tap-desk of desk", "tap-helm of helm"):
            expect(self.page.get_by_role("button", name=re.compile(f"^{tab}: home"))).to_be_visible()

    def test_the_first_hour_from_an_empty_list_to_a_fleet(self) -> None:
        page = self.page
        self.two_at_home()
        # One of them is the pattern of ten more.
        page.get_by_role("button", name="Build on skua").click()
        page.get_by_role("button", name="Make a pattern of it").click()
        expect(page.get_by_label("Name")).to_be_focused()
        page.keyboard.press("Control+a")
        page.keyboard.type("pier hosts")
        expect(page.get_by_text("Nobody’s verdict moves by it.")).to_be_visible()
        page.keyboard.press("Enter")
        self.revision(12)
        page.get_by_role("link", name="Decks").click()
        page.get_by_role("button", name="+ Add").click()
        page.get_by_role("dialog").get_by_label("Name").fill("gull-[01-10]")
        expect(page.get_by_role("dialog").get_by_text("no verdict changes")).to_be_visible()
        page.keyboard.press("Enter")
        self.revision(13)
        page.get_by_role("link", name="Patterns").click()
        page.get_by_role("button", name="Stamp it on hosts").click()
        page.get_by_label("Hosts with").fill("gull")
        page.get_by_role("button", name="All 10 in sight").click()
        page.get_by_role("button", name="Stamp 10 hosts").click()
        self.revision(14)
        # How they are cabled, and who is to run on them, comes as sheets.
        page.get_by_role("link", name="Ledger").click()
        cables = "Host,NIC,Switch,Switch port\n" + "".join(f"gull-{n:02},nic0,pier,p{n + 2}\n" for n in range(1, 11))
        guests = "Host,Guest,Port group\n" + "".join(f"gull-{n:02},crew-{n},berths\n" for n in range(1, 11))
        ports = "Switch,Port,Tagged\n" + "".join(f"pier,p{n + 2},210\n" for n in range(1, 11))
        for sort, text, number in (("Fabric ports", ports, 15), ("Cables", cables, 16), ("Guests", guests, 17)):
            page.get_by_role("button", name="Take a sheet").click()
            panel = page.get_by_role("region", name="Take a sheet")
            panel.get_by_label("What the sheet lists").select_option(sort)
            with page.expect_file_chooser() as chooser:
                panel.get_by_role("button", name="Choose a file").click()
            chooser.value.set_files({"name": "sheet.csv", "mimeType": "text/csv", "buffer": text.encode()})
            panel.get_by_role("button", name="Take it").click()
            self.revision(number)
        expect(self.count("home")).to_have_text("12")
        # More segments are pasted as they stand in a spreadsheet.
        page.locator("revogr-data[col-type=colPinStart] .rgCell[data-rgrow='0']").click()
        expect(page.locator("[role=gridcell]:focus")).to_have_count(1)
        self.keys("ArrowDown")
        page.evaluate(
            """text => {
                const data = new DataTransfer();
                data.setData("text/plain", text);
                document.activeElement.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true }));
            }""",
            "pilots\tproduction\t410\ncrew\tproduction\t420\n",
        )
        self.revision(18)
        # Another number is tried on a draft, laid beside the plan, landed, and taken back.
        page.get_by_role("link", name="Drafts").click()
        page.get_by_label("Name").fill("berths to 310")
        page.keyboard.press("Enter")
        expect(page.get_by_role("region", name="On a draft")).to_be_visible()
        page.get_by_role("link", name="Decks").click()
        page.get_by_role("button", name="+ Add").click()
        page.get_by_role("dialog").get_by_role("button", name="Segments", exact=True).click()
        page.get_by_role("list", name="Segments").get_by_role("button", name="berths").click()
        panel = page.get_by_role("dialog", name="Segment berths")
        panel.get_by_role("button", name="Renumber").click()
        panel.get_by_label("New VID").fill("310")
        expect(panel.get_by_text("no verdict changes")).to_be_visible()
        page.keyboard.press("Enter")
        page.get_by_role("link", name="Beside the plan, land it").click()
        expect(page.get_by_role("list", name="Records that differ")).to_contain_text("VID 210 → 310")
        page.get_by_label("Land it as").fill("berths move to 310")
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="Revision 19")).to_contain_text("berths move to 310")
        expect(self.count("home")).to_have_text("12")
        page.get_by_role("region", name="Revisions").get_by_role("button").nth(1).click()
        page.get_by_role("button", name="Bring it back").click()
        expect(page.get_by_role("heading", name="Revision 20")).to_be_visible()
        expect(self.count("home")).to_have_text("12")
        page.get_by_role("button", name="Export").click()
        with page.expect_download() as download:
            page.get_by_role("menuitem", name="Hand-over report").click()
        report = download.value.path().read_text()
        self.assertEqual((report.count("crew-10"), "VID 310" in report), (report.count("crew-9"), False))
        self.accessible()

    def test_a_second_adapter_belongs_where_its_port_group_is_tagged(self) -> None:
        self.page.goto(f"{URL}/plans/{self.plan}/decks")
        panel = self.opened(self.page.get_by_role("button", name=re.compile("^berth-planner")).first, "Adapter")
        panel.get_by_label("Port group").select_option("ticketing")
        panel.get_by_label("Port group").press("Enter")
        self.revision(1)
        made = [a for a in someone().whole(self.plan)["records"]["adapter"] if a["guest"] == "guest-berth-planner"]
        self.assertEqual([a["belongs"] for a in made if a.get("order")], ["segment-ticketing"])

    def test_a_host_without_a_site_finds_ports_anywhere(self) -> None:
        someone().edit(
            self.plan,
            0,
            {"op": "put", "kind": "host", "record": {"id": "tern", "name": "tern"}},
            {"op": "put", "kind": "nic", "record": {"id": "tern/nic0", "host": "tern", "name": "nic0"}},
        )
        self.page.goto(f"{URL}/plans/{self.plan}/decks?at=tern/nic0")
        panel = self.opened(self.host("tern").get_by_role("button", name=re.compile("^nic0, ")))
        expect(panel.get_by_role("option").first).to_be_visible()

    def test_following_from_where_no_segment_is_says_so(self) -> None:
        made = {"id": "bare", "switch": "gannet/guests0", "name": "bare wire", "mode": "untagged"}
        someone().edit(self.plan, 0, {"op": "put", "kind": "port_group", "record": made})
        self.page.goto(f"{URL}/plans/{self.plan}/decks?at=bare")
        expect(self.page.get_by_role("button", name=re.compile("^Port group bare wire"))).to_be_focused()
        self.page.keyboard.press("f")
        expect(self.page.get_by_text("No segment to follow from here")).to_be_visible()


if __name__ == "__main__":
    unittest.main()
