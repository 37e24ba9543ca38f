"""Rules over the API: how each fares, a sentence while it is typed, and edits of separations that were kept before there were rules."""

from __future__ import annotations

import unittest
from urllib.parse import quote

from tests.server.support import Client, patch


class RulesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()

    def setUp(self) -> None:
        self.plan = self.client.demo()

    def test_how_each_rule_fares_now_and_at_a_revision_of_before(self) -> None:
        _, told = self.client.get(f"plans/{self.plan}/rules")
        fares = {rule["id"]: rule for rule in told["rules"]}
        self.assertEqual(fares["visitors-apart"]["outcome"], "holds")
        broken = fares["visitors-off-management"]
        self.assertEqual((broken["outcome"], broken["b"]), ("broken", "fulmar/guests0/mgmt"))
        _, finding = self.client.get(f"plans/{self.plan}/findings/{broken['finding']}")
        self.assertEqual(finding["finding"]["culprit"], ["visitors-off-management"])
        self.assertTrue(finding["proof"][0]["hops"] and finding["mends"])
        self.assertTrue(told["starting"])
        edit = patch("rule", "visitors-off-management", text="keep visitors apart from role management on layer 2")
        self.client.edit(self.plan, 0, edit)
        for at, outcome in (("", "holds"), ("?at=0", "broken")):
            _, now = self.client.get(f"plans/{self.plan}/rules{at}")
            self.assertEqual({r["id"]: r["outcome"] for r in now["rules"]}["visitors-off-management"], outcome)

    def test_who_gets_which_lease_now_and_at_a_revision_of_before(self) -> None:
        def told(more: str = "") -> dict[str, dict[str, object]]:
            _, said = self.client.get(f"plans/{self.plan}/leases{more}")
            return {lease["record"]: lease for lease in said["leases"]}

        desk = told()["adapter-visitor-desk-1"]
        self.assertEqual(
            (desk["outcome"], desk["got"], desk["got_from"]), ("leased", "10.66.10.100–199", "quay-router")
        )
        kept = told()["adapter-ticketing-kiosk-3"]
        self.assertEqual((kept["got"], kept["offers"][0]["address"]), ("10.65.10.33", "10.65.10.33/24"))  # type: ignore[index]
        # Whose lease is another one is told with the revision, though no verdict differs.
        scope = patch("lease_scope", "router-leases-visitors", pool=["10.66.10.50-10.66.10.59"])
        _, made = self.client.edit(self.plan, 0, scope)
        landed = {e["id"]: e["tags"][0]["got"] for e in made["landed"]}
        self.assertEqual(landed["adapter-visitor-desk-1"], "10.66.10.50–59, 2001:db8:66:10::/64")
        _, said = self.client.get(f"plans/{self.plan}/leases")
        (desk, _) = said["formed"]
        self.assertEqual(
            (desk["outcome"], desk["got"], desk["got_from"]), ("formed", "2001:db8:66:10::/64", "quay-router")
        )
        self.assertEqual(desk["adverts"][0]["at"], "quay-router/visitors")
        self.assertEqual(told()["adapter-visitor-desk-2"]["got"], "10.66.10.50–59")
        self.assertEqual(told("?at=0")["adapter-visitor-desk-2"]["got"], "10.66.10.100–199")
        # Nobody leases there any more.
        self.client.edit(self.plan, 1, {"op": "drop", "kind": "lease_scope", "id": "router-leases-visitors"})
        _, verdicts = self.client.get(f"plans/{self.plan}/verdicts")
        titles = [finding["title"] for finding in verdicts["findings"]]
        self.assertIn("Nobody can know whether visitor-desk-1 and visitor-desk-2 get a lease", titles)

    def test_chosen_endpoints_against_each_other_by_id_or_name(self) -> None:
        ask = f"plans/{self.plan}/meetings?of=visitor-desk-1&of=quay-router&of=internet"
        _, told = self.client.get(ask)
        self.assertEqual(told["segments"], ["guest-visitor-desk-1", "quay-router", "internet"])
        self.assertEqual([row[n] for n, row in enumerate(told["rows"])], ["-"] * 3)
        self.assertEqual((told["rows"][0][1], told["rows"][1][0]), ("m", "m"))
        for of, words in (("nobody-here", "nobody is called"), ("10.65.10.11", "is needed")):
            status, problem = self.client.get(f"{ask}&of={of}")
            self.assertEqual(status, 400)
            self.assertIn(words, str(problem))
        many = "&".join(f"of=tap{n}" for n in range(30))
        self.assertEqual(self.client.get(f"plans/{self.plan}/meetings?{many}")[0], 400)
        # Of a revision of before they stand as they stood.
        self.client.edit(self.plan, 0, patch("adapter", "adapter-visitor-desk-1", port_group=None))
        self.assertEqual(self.client.get(ask)[1]["rows"][0][1], ".")
        self.assertEqual(self.client.get(f"{ask}&at=0")[1]["rows"][0][1], "m")

    def test_segments_against_each_other_and_what_ends_a_meeting(self) -> None:
        self.assertEqual(self.client.get(f"plans/{self.plan}/meetings?by=name")[0], 400)
        _, roles = self.client.get(f"plans/{self.plan}/meetings?by=role")
        at = roles["segments"].index
        self.assertEqual(roles["rows"][at("edge")][at("management")], "b")
        self.assertEqual(roles["wrong"][at("edge")][at("management")], "!")
        _, told = self.client.get(f"plans/{self.plan}/meetings")
        a, b = (told["segments"].index(f"segment-{name}") for name in ("visitors", "management"))
        self.assertEqual((told["rows"][a][b], told["expected"][a][b]), ("b", "a"))
        pair = f"plans/{self.plan}/meeting?a=segment-visitors&b=segment-management"
        _, one = self.client.get(pair)
        self.assertEqual(one["rule"], "keep segment visitors apart from segment management")
        self.assertEqual(one["found"][0]["a"], "adapter-visitor-desk-1")
        ending = one["endings"][0]
        self.assertIn("drop what segment visitors and segment management send each other", ending["title"])
        self.assertEqual(self.client.edit(self.plan, 0, *ending["edit"])[0], 200)
        _, after = self.client.get(f"plans/{self.plan}/meetings")
        self.assertEqual(after["rows"][a][b], ".")
        _, before = self.client.get(f"plans/{self.plan}/meetings?at=0")
        self.assertEqual(before, told)
        _, now = self.client.get(pair)
        self.assertEqual(now["endings"], [])
        for query, field in (("a=x&b=segment-visitors", "a"), ("a=segment-visitors&b=segment-visitors", "b")):
            status, refused = self.client.get(f"plans/{self.plan}/meeting?{query}")
            self.assertEqual((status, refused["problems"][0]["field"]), (400, field))

    def test_a_sentence_is_read_while_it_is_typed(self) -> None:
        def read(text: str, more: str = "") -> dict[str, object]:
            status, said = self.client.get(f"plans/{self.plan}/rule?text={quote(text)}{more}")
            self.assertEqual(status, 200)
            return dict(said)

        said = read("keep ticketing ")
        self.assertEqual((said["could"], said["names"]), (["apart", "and", ","], False))
        self.assertIn("breaks off", said["fault"]["message"])  # type: ignore[index]
        self.assertEqual(read("keep ticketing", "&before=5")["names"], True)
        whole = read("keep ticketing apart from CCTV on layer 2")
        self.assertEqual((whole["fault"], whole["told"]["outcome"]), (None, "holds"))  # type: ignore[index]
        self.assertEqual([w["sort"] for w in whole["words"]][:3], ["word", "name", "word"])  # type: ignore[attr-defined]

    def test_what_cannot_be_read_is_refused_with_its_place(self) -> None:
        edit = [{"op": "put", "kind": "rule", "record": {"id": "r", "text": "keep a apart"}}]
        status, refused = self.client.post(f"plans/{self.plan}/edits", {"base": 0, "message": "x", "edit": edit})
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "text"))
        self.assertIn("at character 13", refused["problems"][0]["text"])
        for asked in ("", f"?text={'x' * 900}", "?text=a&before=x", "?text=%00"):
            status, _ = self.client.get(f"plans/{self.plan}/rule{asked}")
            self.assertEqual(status, 200 if asked == "" else 400, asked)

    def test_a_kept_edit_of_a_separation_is_undone_as_it_was_meant(self) -> None:
        put = {"op": "put", "kind": "separation", "record": {"id": "old", "a": "edge", "b": "backup"}}
        self.client.edit(self.plan, 0, put)
        rule = next(r for r in self.client.whole(self.plan)["records"]["rule"] if r["id"] == "old")
        self.assertEqual(rule["text"], "edge and backup share no VID, virtual switch or uplink")
        self.client.edit(self.plan, 1, {"op": "patch", "kind": "separation", "id": "old", "set": {"share": "nic"}})
        self.client.post(f"plans/{self.plan}/undo")
        self.client.post(f"plans/{self.plan}/undo")
        self.assertNotIn("old", [r["id"] for r in self.client.whole(self.plan)["records"]["rule"]])


if __name__ == "__main__":
    unittest.main()
