"""Sessions and the people in a plan."""

from __future__ import annotations

import unittest

from tests.server.support import Client, Stream, patch


class ColumnsTest(unittest.TestCase):
    def test_columns_are_chosen_by_each_person(self) -> None:
        ines, tomas = Client("ines"), Client("tomas")
        self.assertEqual(tomas.get("columns/landing"), (200, {"columns": None}))
        for wanted in (["verdict", "owner"], []):
            said = ines.put("columns/landing", {"columns": wanted})
            self.assertEqual(said, (200, {"columns": wanted}))
            self.assertEqual(Client("ines").get("columns/landing")[1], {"columns": wanted})
        self.assertEqual(tomas.get("columns/landing")[1], {"columns": None})

    def test_what_cannot_be_columns_is_refused(self) -> None:
        ines = Client("ines")
        self.assertEqual(ines.get("columns/decks")[0], 400)
        for wrong in ("verdict", [1], ["a", "a"], ["x" * 31], [""], [str(n) for n in range(41)]):
            said = ines.put("columns/landing", {"columns": wrong})
            self.assertEqual((said[0], said[1]["problems"][0]["field"]), (400, "columns"), wrong)
        self.assertIn(Client(None).get("columns/landing")[0], (401, 403))


class PresenceTest(unittest.TestCase):
    def test_people_come_and_go(self) -> None:
        ines, tomas = Client("ines"), Client("tomas")
        plan = ines.demo()
        first = Stream(ines, plan)
        self.addCleanup(first.close)
        first.until("people", ["ines"])
        second = Stream(tomas, plan)
        first.until("people", ["ines", "tomas"])
        second.close()
        # The server notices a closed connection when it next writes to it.
        ines.edit(plan, 0, patch("segment", "segment-edge", role="rim"))
        first.until("people", ["ines"])

    def test_two_windows_of_one_person_are_one_person(self) -> None:
        ines = Client("ines")
        plan = ines.demo()
        streams = [Stream(ines, plan), Stream(ines, plan)]
        for stream in streams:
            self.addCleanup(stream.close)
            stream.until("people", ["ines"])

    def test_plans_do_not_hear_of_each_other(self) -> None:
        ines = Client("ines")
        one, two = ines.demo(), ines.demo()
        stream = Stream(ines, one)
        self.addCleanup(stream.close)
        stream.until("people", ["ines"])
        ines.edit(two, 0, patch("segment", "segment-edge", role="rim"))
        ines.edit(one, 0, patch("segment", "segment-edge", role="brim"))
        told = stream.next("revision")
        self.assertEqual(
            (told["revision"], told["edits"][0]["edit"]), (1, [patch("segment", "segment-edge", role="brim")])
        )


class SessionTest(unittest.TestCase):
    def test_login_takes_text_only_and_says_nothing_of_who_exists(self) -> None:
        stranger = Client(user=None)
        for body, field in (({}, "username"), ({"username": "ines", "password": ["x"]}, "password"), ([1], "")):
            status, said = stranger.post("session", body)
            self.assertEqual((status, said["problems"][0]["field"]), (400, field))
        for name in ("nobody", "ines"):
            said = stranger.post("session", {"username": name, "password": "x"})
            self.assertEqual(said, (400, {"detail": "No user has this name and password."}))

    def test_a_logged_out_session_cannot_be_used_again(self) -> None:
        person = Client()
        cookies = {c.name: c.value for c in person.cookies}
        person.request("DELETE", "session")
        again = Client(user=None)
        header = f"sessionid={cookies['sessionid']}"
        self.assertEqual(again.request("GET", "plans", Cookie=header)[0], 403)

    def test_an_unknown_address_of_the_api_is_404_and_no_page(self) -> None:
        status, said = Client().request("GET", "nothing")
        self.assertEqual((status, said), (404, {"detail": "There is nothing at this address."}))


if __name__ == "__main__":
    unittest.main()
