"""What guests could do: whom they could hear or reach by tagging their frames as they like."""

from __future__ import annotations

import json
import subprocess
import tempfile
import unittest
from pathlib import Path

from aptwire.forward.frames import Frames
from aptwire.forward.parts import NOW, State
from aptwire.judge.could import could, exactly
from aptwire.judge.mends import mends
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge, rejudge
from aptwire.judge.why import ASTRAY, is_idle
from aptwire.plan.edits import Patch, apply_edit, touched
from aptwire.plan.file import write_plan
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_whole_wiring import overlay
from tests.support import ROOT, Small, pair, random_plan


def wide(**group: object) -> Small:
    """a1 in a port group as told; b1 on segment 10 and b2 on segment 20 of another host."""
    made = pair()
    made.segment(20)
    made.guest("b", "b2", 20)
    made.kinds["port_group"][0].update(group)
    return made


class CouldTest(unittest.TestCase):
    def could(self, made: Small) -> dict[str, tuple[str, ...]]:
        return could(judge(made.plan())).all()

    def test_an_access_port_lets_nobody_further(self) -> None:
        self.assertEqual(self.could(wide()), {})

    def test_a_trunk_wider_than_the_guests_own_tags(self) -> None:
        made = wide(mode="trunk", vid=None, allowed="10, 20", native=10)
        self.assertEqual(self.could(made), {"a1": ("s20",)})
        judgement = judge(made.plan())
        risk = next(r for r in risks(judgement) if r.what == "could")
        self.assertEqual(risk.title, "a1 could reach s20 by tagging its frames")
        self.assertEqual(mends(judgement, risk)[0].title, "Let port group g10 of a carry no tags alone")
        self.assertEqual(exactly(judgement, "a1"), {"20": ["b2"]})
        made.put("guest_tag", "t", adapter="a1", vid=20, belongs="s20")
        self.assertEqual(self.could(made), {})

    def test_over_a_team_of_many_members_that_others_frames_cross(self) -> None:
        """Every member is a state of its own, and the states' groups are numbered apart."""
        made = wide(mode="trunk", vid=None, allowed="10, 20", native=10)
        for n in range(1, 14):
            made.trunk(f"sw/q{n}", "10" if n < 13 else "10, 30")
            made.put("nic", f"a/n{n}", host="a", name=f"n{n}", uplink="a/u", rank=n)
            made.cable(f"a/n{n}", f"sw/q{n}")
        made.put("host_port", "a/hp", switch="a/s", name="hp", vid=20)
        made.put("virtual_switch", "a/t", host="a", name="t")
        made.put("uplink", "a/t/u", switch="a/t", name="u", over="a/hp")
        self.assertEqual(self.could(made), {"a1": ("s20",)})
        made.kinds["fabric_port"][0]["allowed"] = "10"
        self.assertEqual(self.could(made), {})
        made.kinds["fabric_port"][-1]["allowed"] = "10, 20"
        self.assertEqual(self.could(made), {"a1": ("s20",)})

    def test_a_switch_that_filters_nothing(self) -> None:
        made = wide(mode="untagged", vid=None)
        made.kinds["virtual_switch"][0]["filters"] = False
        made.kinds["adapter"][0]["belongs"] = made.segment(None)
        self.assertEqual(self.could(made), {"a1": ("s10", "s20")})
        made.kinds["fabric_port"][0]["allowed"] = "20"
        self.assertEqual(self.could(made), {"a1": ("s20",)})

    def test_who_is_off_is_reached_by_nobody(self) -> None:
        made = wide(mode="trunk", vid=None, allowed="10, 20", native=10)
        made.kinds["guest"][-1]["running"] = False
        self.assertEqual(self.could(made), {})

    def test_every_member_of_a_team_counts(self) -> None:
        made = wide(mode="trunk", vid=None, allowed="10, 20", native=10)
        made.kinds["fabric_port"][0]["allowed"] = "10"
        self.assertEqual(self.could(made), {})
        made.trunk("sw/p9", "20")
        made.put("nic", "a/n9", host="a", name="n9", uplink="a/u", rank=1, role="standby")
        made.cable("a/n9", "sw/p9")
        self.assertEqual(self.could(made), {"a1": ("s20",)})

    def test_a_second_tag_gets_through_where_the_first_is_taken_off(self) -> None:
        """An access port that admits its own tag lets a second one by; an untagged exit pops the first (seen in the kernel)."""
        made = pair("10", "10")
        made.segment(20)
        made.kinds["port_group"][0]["admits"] = "all"
        made.kinds["fabric_port"][1]["native"] = 10
        made.guest("b", "b2", 20)
        judgement = judge(made.plan())
        self.assertEqual(exactly(judgement, "a1").get("10.20"), ["b2"])

    def test_who_is_beside_a_tunnel_s_end_could_send_into_it(self) -> None:
        made = overlay()
        self.assertEqual(self.could(made), {})
        made.guest("a", "a2", 10)
        self.assertEqual(self.could(made), {"a2": ("over",)})
        judgement = judge(made.plan())
        found = [r.title for r in risks(judgement) if r.what in ("tunnel", "could")]
        self.assertEqual(found, ["a2 could send into over: it is where the tunnels’ packets are"])
        self.assertEqual(exactly(judgement, "a2"), {"vxlan 5010": ["a1", "b1"]})
        self.assertEqual(exactly(judgement, "a1"), {})
        made.kinds["port_group"][-1]["vid"] = 20
        self.assertEqual(self.could(made), {})

    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans())
    def test_whom_the_exact_search_reaches_with_one_tag_the_arrays_know(self, seed: int, rich: bool) -> None:
        judgement = judge(random_plan(seed, rich, odd=True))
        plan, wiring = judgement.plan, judgement.wiring
        found, known = could(judgement), could(judgement).all()
        for nic in [None, *sorted(plan.of("nic"))[:2]]:
            frames = Frames(wiring, State(lost=frozenset([nic])) if nic else NOW)
            for adapter in plan.of("adapter"):
                seat = frames.seats.get(adapter)
                # Over a share a frame bears two tags, of which arrays don't speak.
                if seat is None or seat.vni or "-up" in adapter:
                    continue
                allowed = set(known.get(adapter, ())) | {found.segments[n] for n in found._meant(adapter)}
                for vid in (10, 20, 30, 40):
                    for id, out in frames.reached(adapter, vid):
                        if "-up" in id:
                            continue
                        label = int(wiring.classes.of[out]) if out else 0
                        for place in wiring.places_of(id) if plan.of("adapter").get(id) else ():
                            heard = place.label == label and place.segment and not is_idle(plan, id)
                            if heard and judgement.stand_verdict(place.stand)[0] != ASTRAY:
                                self.assertIn(place.segment, allowed, f"{adapter} reaches {id} with {vid}")

    @settings(max_examples=40)
    @given(st.integers(0, 10**9))
    def test_a_vid_that_nobody_had_before_is_known_to_all_ports(self, seed: int) -> None:
        plan = random_plan(seed, odd=True)
        judgement = judge(plan)
        could(judgement).all()
        groups = sorted(g.id for g in plan.where("port_group", "mode", "access"))
        for vid, group in zip((1234, 2345), groups, strict=False):
            edit = (Patch("port_group", group, {"vid": vid}),)
            plan, _ = apply_edit(plan, edit)
            judgement = rejudge(judgement, plan, touched(edit))
            self.assertEqual(could(judgement).all(), could(judge(plan)).all())

    def test_the_command_says_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "plan.json")
            path.write_bytes(write_plan(wide(mode="trunk", vid=None, allowed="10, 20", native=10).plan()))
            for rest, wanted in (([], {"a/a1": ["s20"]}), (["a/a1"], {"a/a1|20": ["b2"]})):
                done = subprocess.run(
                    [str(ROOT / "run"), "could", str(path), *rest, "--json"],
                    capture_output=True,
                    text=True,
                    check=False,
                )
                self.assertEqual((done.returncode, json.loads(done.stdout)), (1, wanted), done.stderr)


if __name__ == "__main__":
    unittest.main()
