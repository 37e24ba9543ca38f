"""When Python looks for garbage: not while somebody waits, and soon after."""

import asyncio
import gc
import unittest
import weakref

from aptwire_server.collecting import collecting_between, stays


class CollectingTest(unittest.IsolatedAsyncioTestCase):
    """The search for cycles around answers."""

    def setUp(self):
        self.addCleanup(gc.enable)
        self.seen = []

    async def application(self, scope, receive, send):
        for _ in range(scope["steps"]):
            await asyncio.sleep(0.02)
            self.seen.append(gc.isenabled())
        if scope.get("fails"):
            raise ValueError("as it happens")

    async def test_begins_when_nobody_waits_any_more(self):
        app = collecting_between(self.application, quiet=0.1, longest=10)
        await asyncio.gather(app({"steps": 1}, None, None), app({"steps": 4}, None, None))
        self.assertEqual(self.seen, [False] * 5)
        await asyncio.sleep(0.02)
        self.assertFalse(gc.isenabled(), "what follows at once is waited for too")
        await app({"steps": 1}, None, None)
        self.assertEqual(self.seen[-1:], [False])
        await asyncio.sleep(0.3)
        self.assertTrue(gc.isenabled())

    async def test_begins_after_an_answer_that_fails(self):
        app = collecting_between(self.application, quiet=0.02, longest=10)
        with self.assertRaises(ValueError):
            await app({"steps": 1, "fails": True}, None, None)
        await asyncio.sleep(0.2)
        self.assertTrue(gc.isenabled())

    async def test_isn_t_put_off_for_ever(self):
        app = collecting_between(self.application, quiet=10, longest=0.1)
        await app({"steps": 20}, None, None)
        self.assertFalse(self.seen[0])
        self.assertTrue(self.seen[-1], "a long answer")
        self.seen.clear()
        for _ in range(10):
            await app({"steps": 1}, None, None)
        self.assertIn(False, self.seen, "it is put off again")
        self.assertIn(True, self.seen, "many answers one after the other")

    async def test_what_stays_is_looked_through_once_and_not_while_somebody_waits(self):
        self.addCleanup(gc.unfreeze)

        class Knot:
            pass

        knot = Knot()
        knot.own, gone = knot, weakref.ref(knot)
        del knot

        async def makes(scope, receive, send):
            stays()
            gc.collect()
            await asyncio.sleep(0.05)
            self.seen.append(gone() is not None)

        await collecting_between(makes, quiet=0.05, longest=0.02)({}, None, None)
        self.assertEqual(self.seen, [True])
        app = collecting_between(self.application, quiet=0.05, longest=10)
        await app({"steps": 1}, None, None)
        self.assertIsNotNone(gone())
        await asyncio.sleep(0.2)
        self.assertIsNone(gone())
        self.assertGreater(gc.get_freeze_count(), 1000)


if __name__ == "__main__":
    unittest.main()
