"""Sessions and the people in a plan."""

from __future__ import annotations

import http.client
import json
import unittest
from urllib.parse import urlparse

from tests.server.support import URL, Client, patch


class Stream:
    """A browser's event stream."""

    def __init__(self, client: Client, plan: str) -> None:
        address = urlparse(URL)
        self.connection = http.client.HTTPConnection(address.hostname or "", address.port, timeout=60)
        cookies = "; ".join(f"{c.name}={c.value}" for c in client.cookies)
        self.connection.request("GET", f"/api/plans/{plan}/events", headers={"Cookie": cookies})
        self.response = self.connection.getresponse()

    def next(self, kind: str) -> object:
        """The data of the next event of a kind."""
        while True:
            if self.response.readline().decode().strip() == f"event: {kind}":
                return json.loads(self.response.readline().decode().removeprefix("data: "))

    def until(self, kind: str, wanted: object) -> None:
        """Wait until an event brings what is wanted."""
        while self.next(kind) != wanted:
            pass

    def close(self) -> None:
        self.connection.close()


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
        self.assertEqual(stream.next("revision"), 1)


class SessionTest(unittest.TestCase):
    def test_login_takes_text_only_and_says_nothing_of_who_exists(self) -> None:
        stranger = Client(user=None)
        said = {
            json.dumps(stranger.post("session", body)[1])
            for body in ({}, {"username": "nobody", "password": "x"}, {"username": "ines", "password": ["x"]}, [1])
        }
        self.assertEqual(said, {'{"detail": "No user has this name and password."}'})

    def test_a_logged_out_session_cannot_be_used_again(self) -> None:
        person = Client()
        cookies = {c.name: c.value for c in person.cookies}
        person.request("DELETE", "session")
        again = Client(user=None)
        header = f"sessionid={cookies['sessionid']}"
        self.assertEqual(again.request("GET", "plans", Cookie=header)[0], 403)

    def test_an_unknown_address_of_the_api_is_404_and_no_page(self) -> None:
        status, said = Client().request("GET", "nothing")
        self.assertEqual(status, 404)
        self.assertNotIn(b"<script", said if isinstance(said, bytes) else b"")


if __name__ == "__main__":
    unittest.main()
