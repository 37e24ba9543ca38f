"""Which cores serve which NIC, in the browser: seen, laid out for many hosts at once, written as settings."""

from __future__ import annotations

import re
import unittest
import zipfile

from aptwire.plan.file import write_plan
from playwright.sync_api import expect

from tests.server.support import URL
from tests.support import Small
from tests.web.support import BrowserTest, someone


class QueuesTest(BrowserTest):
    def test_two_nics_of_a_team_share_the_cores_out_and_the_settings_are_written_for_all_hosts(self) -> None:
        page = self.page
        page.locator("body").press("q")
        hosts = page.get_by_role("list", name="Hosts whose cores are known")
        expect(hosts.get_by_role("listitem")).to_have_count(5)
        hosts.get_by_role("button", name=re.compile("^petrel")).press("Enter")
        own = page.get_by_role("region", name="petrel", exact=True)
        told = "nic0 by 1-3; nic1 by 4, 5; nic2 by 6-11"
        expect(own.get_by_role("img", name=f"Cores of petrel, as they would be laid out: {told}")).to_be_visible()
        row = own.get_by_role("row").filter(has_text="nic3")
        expect(row).to_contain_text("none: one core is enough for what it does")
        self.accessible()
        page.get_by_role("button", name="Lay out 5 hosts").click()
        form = page.get_by_role("region", name="Hosts", exact=True)
        expect(form.get_by_text("Lay out the queues of fulmar, gannet and 3 more")).to_be_visible()
        self.accessible()
        form.get_by_role("button", name="Set them so").click()
        expect(page.get_by_text("revision 1", exact=True)).to_be_visible()
        expect(hosts.get_by_text("as laid out")).to_have_count(5)
        expect(row).to_contain_text("as it comes")
        with page.expect_download() as coming:
            own.get_by_role("link", name="Settings as a script").click()
        self.assertIn("serve 'nic1' 4 5", coming.value.path().read_text())
        with page.expect_download() as coming:
            page.get_by_role("link", name="Settings of all hosts (ZIP)").click()
        self.assertEqual(coming.value.suggested_filename, "Brackwater-Ferries-queues.zip")

    def test_the_settings_of_ten_hosts_are_laid_out_and_written_at_once(self) -> None:
        page, made = self.page, Small()
        for n in range(10):
            host = made.host(f"tern-{n}", None, None, uplink={"mode": "pinned"})
            made.put("numa_node", f"{host}/0", host=host, number=0, cores="0+8, 1+9, 2+10, 3+11, 4+12")
        for nic in made.kinds["nic"]:
            nic.update(speed=25_000, numa=0)
        sent = [("file", "terns.json", write_plan(made.plan()))]
        plan = someone().upload("plans/import", [], sent)[1]["id"]
        page.goto(f"{URL}/plans/{plan}/queues")
        page.get_by_label("Hosts with").fill("tern-3")
        expect(page.get_by_role("list", name="Hosts whose cores are known").get_by_role("listitem")).to_have_count(1)
        page.get_by_label("Hosts with").fill("")
        page.get_by_role("button", name="Lay out 10 hosts").click()
        page.get_by_role("button", name="Set them so").click()
        expect(page.get_by_text("revision 1", exact=True)).to_be_visible()
        with page.expect_download() as coming:
            page.get_by_role("link", name="Settings of all hosts (ZIP)").click()
        with zipfile.ZipFile(coming.value.path()) as files:
            self.assertEqual(len(files.namelist()), 10)
            for name in files.namelist():
                self.assertIn(b"serve 'n0' 1 2\nchannels 'n1' 2\nserve 'n1' 3 4\n", files.read(name))

    def test_a_finding_leads_to_its_mend(self) -> None:
        self.finding("nic2 of fulmar is served by processors of another NUMA node").click()
        mend = self.page.get_by_role("button", name=re.compile("^Mend 1 of.*Lay out the queues of fulmar anew"))
        expect(mend).to_contain_text("no verdict changes")
        mend.press("Enter")
        expect(self.page.get_by_text("revision 1", exact=True)).to_be_visible()
        nic = next(n for n in someone().whole(self.plan)["records"]["nic"] if n["id"] == "fulmar/nic2")
        self.assertEqual((nic["queues"], nic["cores"]), (8, "8-15"))

    def test_cores_are_said_by_hand_where_nothing_was_read(self) -> None:
        page = self.page
        plan = someone().post("plans", {"name": "by hand"})[1]["id"]
        put = {"op": "put", "kind": "host", "record": {"id": "skua", "name": "skua"}}
        self.assertEqual(someone().edit(plan, 0, put)[0], 200)
        page.goto(f"{URL}/plans/{plan}/queues")
        expect(page.get_by_role("heading", name="No processors are known")).to_be_visible()
        self.accessible()
        page.goto(f"{URL}/plans/{plan}/decks")
        page.get_by_role("button", name="Build on skua").click()
        panel = page.get_by_role("dialog", name=re.compile("skua"))
        panel.get_by_role("button", name="Cores", exact=True).click()
        panel.get_by_label("Cores", exact=True).fill("0+4, 1+x")
        expect(panel.get_by_text("“1+x” is no core such as 3 or 3+19")).to_be_visible()
        panel.get_by_label("Cores", exact=True).fill("0+4, 1+5, 2+6")
        panel.get_by_role("button", name="Add NUMA node 0").click()
        expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
        self.assertEqual(someone().whole(plan)["records"]["numa_node"][0]["cores"], "0+4, 1+5, 2+6")


if __name__ == "__main__":
    unittest.main()
