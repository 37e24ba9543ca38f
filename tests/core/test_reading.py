"""Reading real hosts: the captures, and files that are cut, lie, or have another shape."""

from __future__ import annotations

import json
import random
import struct
import unittest

from aptwire.formats import lldp, pcap
from aptwire.formats.hosts import read_hosts
from aptwire.formats.making import Report
from aptwire.forward.hearing import hears
from aptwire.judge.findings import everything
from aptwire.judge.verdicts import judge
from aptwire.plan.plan import Plan, PlanError
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import STATES, files_of, two_hosts_files


def frame(*tlvs: tuple[int, bytes]) -> bytes:
    """An LLDP frame of TLVs, with the End TLV."""
    body = b"".join(struct.pack(">H", kind << 9 | len(value)) + value for kind, value in (*tlvs, (0, b"")))
    return bytes.fromhex("0180c200000e0216 1eb1f308 88cc".replace(" ", "")) + body


MANDATORY = ((1, b"\x07gull-rack"), (2, b"\x05p7"), (3, b"\x00\x78"))


def capture(*frames: bytes) -> bytes:
    """A pcap file of frames, one second apart."""
    raw = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)
    for second, data in enumerate(frames):
        raw += struct.pack("<IIII", second, 0, len(data), len(data)) + data
    return raw


def links(*interfaces: dict) -> bytes:
    """An ip-link.json of interfaces that are up."""
    made = []
    for number, interface in enumerate(interfaces, 1):
        up = {
            "ifindex": number,
            "flags": ["UP", "LOWER_UP"],
            "mtu": 1500,
            "operstate": "UP",
            "address": f"02:64:00:00:00:{number:02x}",
        }
        made.append({**up, **interface})
    return json.dumps(made).encode()


def bridge(name: str, filtering: int = 0) -> dict:
    return {"ifname": name, "linkinfo": {"info_kind": "bridge", "info_data": {"vlan_filtering": filtering}}}


def tap(name: str, master: str, alias: str = "") -> dict:
    return {"ifname": name, "master": master, "ifalias": alias, "linkinfo": {"info_kind": "tun"}}


def vlan(name: str, lower: str, id: int, **more: object) -> dict:
    return {
        "ifname": name,
        "link": lower,
        "linkinfo": {"info_kind": "vlan", "info_data": {"id": id, "protocol": "802.1Q"}},
        **more,
    }


def read(**files: bytes) -> tuple[Plan, list[str]]:
    """A plan of one host, heron, and the lines of its report."""
    plan, report = read_hosts({f"heron/{k}": v for k, v in files.items()}, "test")
    return plan, [f"{n.what} {n.about}: {n.text}" for n in report.notes]


class CapturesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.plan, cls.report = read_hosts(two_hosts_files(), "two-hosts")

    def test_teams_with_mode_order_and_active_member(self) -> None:
        uplink = self.plan.get("uplink", "fulmar/guests0/bond0")
        self.assertEqual(
            (uplink.mode, uplink.carries, uplink.allowed), ("standby", "fulmar/nic0", "110, 120, 210, 220")
        )
        self.assertEqual([self.plan.get("nic", f"fulmar/nic{n}").rank for n in (0, 1)], [0, 1])
        self.assertEqual(self.plan.get("nic", "fulmar/nic1").mac, "2e:66:60:5e:19:aa")

    def test_taps_of_one_bridge_with_the_same_tags_share_a_port_group(self) -> None:
        groups = {self.plan.get("adapter", f"gannet/tap-tick{n}").port_group for n in (1, 2)}
        self.assertEqual(len(groups), 1)
        guest = self.plan.get("adapter", "gannet/tap-tick1").guest
        self.assertEqual(self.plan.get("guest", guest).name, "ticketing-web-1")

    def test_host_ports_and_their_addresses(self) -> None:
        port = self.plan.get("host_port", "gannet/guests0/port/mgmt")
        self.assertEqual((port.vid, port.addresses), (110, ("10.77.110.11/24",)))
        store = self.plan.get("host_port", "gannet/store0/port/store0")
        self.assertEqual((store.vid, store.belongs), (None, "segment:130"))

    def test_switches_named_by_lldp_are_fabric_with_their_ports_and_cables(self) -> None:
        self.assertEqual(sorted(self.plan.of("fabric_switch")), ["rack-a", "rack-b"])
        port = self.plan.get("fabric_port", "rack-b/p2")
        self.assertEqual((port.mode, port.allowed, port.native), ("trunk", "110, 120, 210, 999", 999))
        self.assertEqual(len(self.plan.of("cable")), 7)

    def test_the_report_tells_what_was_proposed_and_left_out(self) -> None:
        said = {(n.what, n.about) for n in self.report.notes}
        self.assertIn(("proposed", "segment:230"), said)
        self.assertIn(("left out", "drills.json"), said)
        self.assertIn(("differs", "rack-a/x49.lldp.pcap"), said)

    def test_without_the_switches_own_state_lldp_is_enough(self) -> None:
        files = {k: v for k, v in two_hosts_files().items() if not k.startswith("rack-")}
        plan, _ = read_hosts(files, "lldp only")
        port = plan.get("fabric_port", "rack-b/p2")
        self.assertEqual((port.mode, port.allowed, port.native), ("trunk", "110, 120, 210", 999))
        alone = plan.get("fabric_port", "rack-a/p11")
        self.assertEqual((alone.mode, alone.native, alone.partial), ("trunk", 130, True), "it may carry others as well")
        self.assertTrue(plan.get("fabric_switch", "rack-a").partial)
        verdicts = judge(plan).verdicts()
        self.assertEqual(verdicts["fulmar/store0/port/store0"], "home")
        self.assertEqual(verdicts["gannet/tap-tick1"], "unproven", "nobody said whether the two switches are joined")


class AnyStateTest(unittest.TestCase):
    @settings(max_examples=150)
    @given(st.randoms(use_true_random=False))
    def test_whatever_is_read_ends_in_a_plan_or_in_an_error_that_names_file_and_place(
        self, dice: random.Random
    ) -> None:
        """Real states in which fields are missing, of another type, or say what nobody says."""
        files = dict(files_of(dice.choice(sorted(STATES.iterdir()))))
        for _ in range(dice.randint(1, 3)):
            name = dice.choice([f for f in sorted(files) if f.count("/") == 1 and f.endswith(".json")])
            data = json.loads(files[name])
            *way, last = dice.choice([path for path in paths(data) if path])
            at = data
            for step in way:
                at = at[step]
            if dice.random() < 0.4:
                del at[last]
            else:
                at[last] = dice.choice(ODD)
            files[name] = json.dumps(data).encode()
        try:
            plan, _ = read_hosts(files, "odd")
        except PlanError as error:
            self.assertTrue(all(problem.place for problem in error.problems), str(error))
        else:
            everything(judge(plan))


ODD = ["", None, -1, 0, 4095, 70000, "x" * 300, [], {}, True, "größe/1", "lo", "802.1ad", "bridge", "vxlan", "macvlan"]
ODD += ["macvtap", "geneve", "ipvlan", "dummy", "vlan", "bond", "tun", "veth", "10.64.0.1", 1.5]


def paths(value: object, path: tuple = ()) -> list[tuple]:
    """The way to each part of a JSON value."""
    items = value.items() if isinstance(value, dict) else enumerate(value[:40]) if isinstance(value, list) else ()
    return [path, *(p for key, part in items for p in paths(part, (*path, key)))]


class LeasingTest(unittest.TestCase):
    """A host's DHCP server, as its configuration says."""

    ADDRESSES = b"""[
        {"ifname": "br0", "addr_info": [{"scope": "global", "local": "10.66.10.1", "prefixlen": 24}]},
        {"ifname": "br1", "addr_info": [{"scope": "global", "local": "10.66.20.1", "prefixlen": 24}]}]"""

    def leased(self, *lines: str) -> tuple[Plan, list[str]]:
        """A host with two addressed bridges, and these lines of configuration."""
        shown = links({"ifname": "eth0", "master": "br0"}, bridge("br0"), bridge("br1"), tap("t1", "br0", "kiosk"))
        return read(
            **{"ip-link.json": shown, "ip-addr.json": self.ADDRESSES, "dnsmasq.conf": "\n".join(lines).encode()}
        )

    def test_ranges_hosts_and_options_become_scopes(self) -> None:
        plan, report = self.leased(
            "# what the office gets",
            "domain-needed",
            "dhcp-range=set:office,10.66.10.100,10.66.10.149,255.255.255.0,12h",
            "dhcp-range=set:office,10.66.10.150,10.66.10.199,255.255.255.0,1h",
            "dhcp-host=02:64:B:0:0:f,10.66.10.40,printer  # beside the door",
            "dhcp-option=tag:office,option:router,10.66.10.254",
            "dhcp-range=10.66.20.10,10.66.20.19",
        )
        office, other = sorted(plan.all("lease_scope"), key=lambda s: s.subnet)
        self.assertEqual(
            (office.of, office.pool, office.gateways), ("heron", ("10.66.10.100-10.66.10.199",), ("10.66.10.254",))
        )
        self.assertEqual((office.kept, office.minutes), (("02:64:0b:00:00:0f 10.66.10.40",), 60))
        # Of another subnet nothing is said: its mask is the interface's, and the gateway is the server itself.
        self.assertEqual(
            (other.subnet, other.pool, other.gateways), ("10.66.20.0/24", ("10.66.20.10-10.66.20.19",), ("10.66.20.1",))
        )
        self.assertTrue(any("leases addresses of 10.66.10.0/24" in line for line in report))

    def test_what_is_advertised_stands_at_the_port_with_the_prefix(self) -> None:
        six = self.ADDRESSES.replace(
            b'"prefixlen": 24}]}',
            b'"prefixlen": 24}, {"scope": "global", "local": "2001:db8:10::1", "prefixlen": 64}]}',
            1,
        ).replace(b'"10.66.20.1", "prefixlen": 24}', b'"2001:db8:20::1", "prefixlen": 64}')
        shown = links({"ifname": "eth0", "master": "br0"}, bridge("br0"), bridge("br1"))
        ten, twenty = "2001:db8:10::/64", "2001:db8:20::/64"
        for lines, told in (
            ("dhcp-range=2001:db8:10::,ra-only", {"br0": ((ten,), True)}),
            (
                "dhcp-range=::,constructor:br*,slaac\nra-param=br1,10,0",
                {"br0": ((ten,), True), "br1": ((twenty,), False)},
            ),
            ("dhcp-range=::,constructor:br1,ra-stateless\ninterface=br0", {}),
            # Whoever leases over IPv6 is advertised as the way out, and what he leases as on link; nobody forms addresses of it.
            ("enable-ra\ndhcp-range=2001:db8:20::100,2001:db8:20::199,12h", {"br1": ((), True)}),
            ("dhcp-range=2001:db8:20::100,2001:db8:20::199,12h", {}),
        ):
            with self.subTest(lines):
                files = {"ip-link.json": shown, "ip-addr.json": six, "dnsmasq.conf": lines.encode()}
                plan, report = read(**files)
                found = {
                    plan.get("host_port", said.at).name: (said.prefixes, said.router)
                    for said in plan.all("advertisement")
                }
                self.assertEqual(found, told, report)
                near = [said.on_link for said in plan.all("advertisement")]
                self.assertEqual(near, [(twenty,)] if "::199" in lines and told else [()] * len(told))

    def test_leases_and_relays_of_ipv6_are_read_likewise(self) -> None:
        """As the manual page of dnsmasq has them: the length of the prefix is 64 where none is said; addresses of IPv6 are kept in brackets."""
        six = self.ADDRESSES.replace(b'"10.66.20.1", "prefixlen": 24}', b'"2001:db8:20::1", "prefixlen": 64}')
        shown = links({"ifname": "eth0", "master": "br0"}, bridge("br0"), bridge("br1"))
        lines = (
            "dhcp-range=2001:db8:20::100,2001:db8:20::199,slaac,12h",
            "dhcp-range=2001:db8:20::400,2001:db8:20::4ff,64,2h",
            "dhcp-range=2001:db8:30::,static,56",
            "dhcp-host=52:54:00:aa:00:01,10.66.10.40,[2001:db8:20::40],desk",
            "dhcp-relay=2001:db8:20::1,2001:db8:99::9",
            "dhcp-range=::10,::99,constructor:br0,64,1h",
        )
        plan, report = read(**{"ip-link.json": shown, "ip-addr.json": six, "dnsmasq.conf": "\n".join(lines).encode()})
        own, other = sorted(plan.all("lease_scope"), key=lambda s: s.subnet)
        self.assertEqual((own.subnet, own.gateways, own.minutes), ("2001:db8:20::/64", (), 120))
        self.assertEqual(own.pool, ("2001:db8:20::100-2001:db8:20::199", "2001:db8:20::400-2001:db8:20::4ff"))
        self.assertEqual(own.kept, ("52:54:00:aa:00:01 2001:db8:20::40",))
        self.assertEqual((other.subnet, other.pool), ("2001:db8:30::/56", ()))
        (relay,) = plan.all("lease_relay")
        self.assertEqual((plan.get("host_port", relay.at).name, relay.to), ("br1", ("2001:db8:99::9",)))
        self.assertTrue(any("constructor:br0" in line for line in report), report)

    def test_guests_ask_for_what_was_leased_to_their_name(self) -> None:
        shown = links(
            {"ifname": "eth0", "master": "br0"},
            bridge("br0"),
            bridge("br1"),
            tap("t1", "br0", "kiosk"),
            tap("t2", "br0", "desk"),
        )
        files = {
            "ip-link.json": shown,
            "ip-addr.json": self.ADDRESSES,
            "dnsmasq.conf": b"dhcp-range=10.66.10.100,10.66.10.149",
        }
        leases = b"1793000000 52:54:00:AA:00:01 10.66.10.105 Kiosk 01:52:54\n1793000000 52:54:00:aa:00:02 10.66.10.106 * *\nduid 00:01\n17 9 2001:db8::1 desk 00\n"
        plan, report = read(**files, **{"dnsmasq.leases": leases})
        asking = {a.name: (a.addressing, a.mac) for a in plan.all("adapter")}
        self.assertEqual(asking, {"t1": ("lease", "52:54:00:aa:00:01"), "t2": ("static", None)})
        self.assertTrue(any("leased 10.66.10.105" in line for line in report))
        with self.assertRaises(PlanError) as caught:
            read(**files, **{"dnsmasq.leases": leases.replace(b"10.66.10.106", b"10.66.10.300")})
        self.assertIn("dnsmasq.leases: line 2", str(caught.exception.problems[0]))
        # Of IPv6 where it leases such; what is for a while, or cut short, says nothing and is refused.
        six = {**files, "dnsmasq.conf": b"dhcp-range=2001:db8:10::100,2001:db8:10::199,64"}
        leases = b"1793000000 52:54:00:aa:00:01 10.66.10.105 kiosk *\nduid 00:01\n17 9 2001:db8:10::105 Desk 00:03\n17 T9 2001:db8:10::109 kiosk 00:04\n"
        plan, report = read(**six, **{"dnsmasq.leases": leases})
        asking6 = {a.name: (a.addressing, a.addressing6, a.mac) for a in plan.all("adapter")}
        self.assertEqual(asking6, {"t1": ("static", "static", None), "t2": ("static", "lease", None)})
        self.assertTrue(any("leased 2001:db8:10::105 to somebody" in line for line in report))
        with self.assertRaises(PlanError) as caught:
            read(**six, **{"dnsmasq.leases": leases.replace(b"2001:db8:10::105", b"10.66.10.106")})
        self.assertIn("dnsmasq.leases: line 3", str(caught.exception.problems[0]))
        # Without its configuration nobody knows what it would lease.
        del files["dnsmasq.conf"]
        plan, _ = read(**files, **{"dnsmasq.leases": leases})
        self.assertEqual({a.addressing for a in plan.all("adapter")}, {"static"})

    def test_a_relay_is_at_the_port_with_its_address(self) -> None:
        plan, report = self.leased("dhcp-relay=10.66.10.1,10.66.20.9", "dhcp-relay=10.9.9.9,10.66.20.9")
        (relay,) = plan.all("lease_relay")
        self.assertEqual((plan.get("host_port", relay.at).addresses, relay.to), (("10.66.10.1/24",), ("10.66.20.9",)))
        self.assertTrue(any("a relay at 10.9.9.9, which none of its ports has" in line for line in report))

    def test_what_a_plan_does_not_hold_is_named(self) -> None:
        for line, named in (
            ("dhcp-range=::10,::99,constructor:br0,64,1h", "in whatever prefix"),
            ("dhcp-range=2001:db8::10,2001:db8::99,127", "too small a subnet"),
            ("dhcp-range=tag:lab,10.66.10.5,10.66.10.9", "only where other tags"),
            ("dhcp-range=10.7.7.5,10.7.7.9", "it isn’t said in which subnet"),
            ("dhcp-range=10.66.10.5,10.66.10.9\ninterface=br1", "doesn’t answer there"),
            ("dhcp-range=10.66.10.5,10.66.10.9\ndhcp-range=10.66.0.5,10.66.0.9,255.255.0.0", "a part of another one"),
            ("dhcp-host=printer,10.66.10.40", "not an address for a MAC address"),
            ("conf-dir=/etc/more", "what it leads to wasn’t given"),
        ):
            _, report = self.leased(line)
            self.assertTrue(any(named in said for said in report), (line, report))

    def test_what_cannot_be_used_is_refused_with_its_line(self) -> None:
        for line in (
            "dhcp-range=10.66.10.300,10.66.10.9",
            "dhcp-range=10.66.10.5,10.66.10.9,255.0.255.0",
            "dhcp-relay=a,b",
            "dhcp-relay=10.66.10.1,2001:db8::1",
            "dhcp-range=2001:db8::g,2001:db8::99",
        ):
            with self.assertRaises(PlanError) as caught:
                self.leased("# first", line)
            self.assertIn("dnsmasq.conf: line 2", str(caught.exception.problems[0]))

    @settings(max_examples=150)
    @given(st.lists(st.text("dhcp-rangeostl=,.:0123456789/# \t\x00ü", max_size=60), max_size=6))
    def test_whatever_stands_there_is_read_or_refused_at_its_line(self, lines: list[str]) -> None:
        made = [
            f"{name}={text}"
            for name, text in zip(("dhcp-range", "dhcp-host", "dhcp-option", "dhcp-relay"), lines, strict=False)
        ]
        try:
            self.leased(*made, *lines)
        except PlanError as error:
            self.assertTrue(all("dnsmasq.conf" in str(p) for p in error.problems), str(error))


class OtherHostsTest(unittest.TestCase):
    def test_a_bridge_without_vlan_filtering_filters_nothing(self) -> None:
        plan, _ = read(
            **{"ip-link.json": links({"ifname": "eth0", "master": "br0"}, bridge("br0"), tap("t1", "br0", "crew"))}
        )
        self.assertFalse(plan.get("virtual_switch", "heron/br0").filters)
        self.assertEqual(next(iter(plan.all("port_group"))).mode, "untagged")

    def test_what_comes_back_of_its_own_is_said_by_a_macvlans_mode(self) -> None:
        def upon(name: str, mode: str) -> dict[str, object]:
            info = {"info_kind": "macvtap", "info_data": {"mode": mode}}
            return {"ifname": name, "link": "eth0", "linkinfo": info}

        for mode, returning in (("bridge", "dropped"), ("private", "dropped"), ("vepa", "taken")):
            plan, _ = read(**{"ip-link.json": links({"ifname": "eth0"}, upon("m1", mode), upon("m2", mode))})
            switch = plan.get("virtual_switch", f"heron/eth0-{mode}")
            self.assertEqual((switch.returning, switch.partial), (returning, False), mode)
        # Between modes on one NIC only some hear each other, which no record holds.
        plan, _ = read(**{"ip-link.json": links({"ifname": "eth0"}, upon("m1", "bridge"), upon("m2", "vepa"))})
        for mode in ("bridge", "vepa"):
            self.assertTrue(plan.get("virtual_switch", f"heron/eth0-{mode}").partial)

    def test_a_bridge_on_a_vlan_interface_goes_over_the_nic_with_that_tag(self) -> None:
        plan, report = read(
            **{
                "ip-link.json": links(
                    {"ifname": "eth0"},
                    vlan("eth0.210", "eth0", 210, master="br210"),
                    bridge("br210"),
                    tap("t1", "br210", "kiosk"),
                    vlan("eth0.110", "eth0", 110),
                ),
                "ip-addr.json": b'[{"ifname": "eth0.110", "addr_info": [{"scope": "global", "local": "10.64.110.5", "prefixlen": 24}]}]',
            }
        )
        group = plan.get("port_group", plan.get("adapter", "heron/t1").port_group)
        uplink = plan.get("uplink", "heron/br210/eth0.210")
        self.assertEqual((uplink.vid, uplink.over), (210, "heron/eth0-switch/eth0"))
        self.assertEqual((uplink.switch, group.switch), ("heron/br210", "heron/br210"))
        self.assertEqual(next(iter(plan.all("host_port"))).addresses, ("10.64.110.5/24",))
        self.assertTrue(any("without a bridge" in line for line in report))

    def test_a_bridge_on_a_vlan_interface_of_another_bridges_uplink_is_never_lost(self) -> None:
        """Its taps would otherwise sit on a switch without a way out, and be home there."""
        for lower, over in (("eth0", "heron/br0/eth0"), ("br0", "heron/br0/port/v20")):
            plan, _ = read(
                **{
                    "ip-link.json": links(
                        {"ifname": "eth0", "master": "br0"},
                        bridge("br0"),
                        vlan("v20", lower, 20, master="br20"),
                        bridge("br20"),
                        tap("t1", "br20", "crew"),
                    )
                }
            )
            group = plan.get("port_group", plan.get("adapter", "heron/t1").port_group)
            uplink = next(u for u in plan.all("uplink") if u.switch == group.switch)
            self.assertEqual((group.switch, uplink.over), ("heron/br20", over))

    def test_what_the_host_answers_and_forwards(self) -> None:
        quiet = "net.ipv4.conf.all.arp_ignore = 1\nnet.ipv6.conf.br/0.disable_ipv6 = 1\n"
        for lines, mode, answers in (
            ("", "eui64", True),
            (quiet, "eui64", False),
            ("net.ipv4.conf.all.arp_ignore = 0\nnet.ipv4.conf.br/0.arp_ignore = 8\n", "none", False),
            # What it keeps back of ARP it still answers of IPv6, for the address that it gives itself.
            ("net.ipv4.conf.br/0.arp_ignore = 2\nnet.ipv6.conf.br/0.disable_ipv6 = 0\n", "eui64", True),
            ("net.ipv4.conf.br/0.arp_ignore = 3\n", "none", True),
            (quiet.replace("br/0", "br0"), "eui64", True),
            ("sysctl: permission denied on key 'net.ipv4.secret'\n" + quiet, "eui64", False),
        ):
            link = links({**bridge("br.0"), "inet6_addr_gen_mode": mode}, tap("t0", "br.0"))
            plan, report = read_hosts({"h/ip-link.json": link, "h/sysctl.txt": lines.encode()}, "x")
            self.assertEqual(plan.get("virtual_switch", "h/br.0").answers, answers, (lines, mode))
            self.assertFalse(any("forwards" in note.text for note in report.notes))
        for lines, said in (
            ("net.ipv4.ip_forward = 1\n", "IPv4"),
            ("net.ipv4.conf.br0.forwarding = 1\nnet.ipv6.conf.all.forwarding = 1\n", "IPv4 and IPv6"),
        ):
            _, report = read_hosts({"h/ip-link.json": links(bridge("br0")), "h/sysctl.txt": lines.encode()}, "x")
            self.assertTrue(any(f"it forwards {said} between" in note.text for note in report.notes), lines)
        # It answers for others (RFC 1027) where it forwards alone.
        for lines, answers in (
            ("net.ipv4.ip_forward = 1\nnet.ipv4.conf.br0.proxy_arp = 1\n", True),
            ("net.ipv4.ip_forward = 1\nnet.ipv4.conf.all.proxy_arp = 1\n", True),
            ("net.ipv4.ip_forward = 1\nnet.ipv4.conf.br0.proxy_arp = 0\n", False),
            ("net.ipv4.conf.br0.proxy_arp = 1\n", False),
        ):
            link = links(
                bridge("br0"), {"ifname": "wg0", "ifindex": 9, "flags": ["UP"], "linkinfo": {"info_kind": "tun"}}
            )
            address = b'[{"ifname": "br0", "addr_info": [{"scope": "global", "local": "10.0.0.1", "prefixlen": 24}]}]'
            files = {"h/ip-link.json": link, "h/ip-addr.json": address, "h/sysctl.txt": lines.encode()}
            plan, report = read_hosts(files, "x")
            self.assertEqual([p.name for p in plan.all("host_port") if p.proxy_arp], ["br0"] if answers else [], lines)
            left = any("wg0 answers ARP for what" in note.text and note.what == "left out" for note in report.notes)
            self.assertEqual(left, "all.proxy" in lines, lines)
        for raw, place in ((b"net.ipv4.ip_forward\n", "h/sysctl.txt: line 1"), (b"\xff", "h/sysctl.txt")):
            with self.assertRaises(PlanError) as refused:
                read_hosts({"h/ip-link.json": links(bridge("br0")), "h/sysctl.txt": raw}, "x")
            self.assertEqual(refused.exception.problems[0].place, place)

    def test_routes_are_read_by_next_hop_and_what_a_plan_does_not_hold_is_told(self) -> None:
        def read(lines: list[dict[str, object]]) -> tuple[Plan, Report]:
            files = {"h/ip-link.json": links(bridge("br0")), "h/ip-route.json": json.dumps(lines).encode()}
            return read_hosts(files, "x")

        plan, report = read(
            [
                {"dst": "default", "gateway": "10.0.0.1", "dev": "br0", "metric": 100},
                {"dst": "default", "gateway": "10.0.0.2", "dev": "br0", "metric": 200},
                {"dst": "10.9.0.0/16", "gateway": "10.0.0.1", "dev": "br0"},
                {"dst": "10.8.0.5", "nexthops": [{"gateway": "10.0.0.3"}, {"gateway": "10.0.0.4"}]},
                {"dst": "10.7.0.0/16", "via": {"family": "inet6", "host": "fe80::1"}, "dev": "br0"},
                {"dst": "10.0.0.0/24", "dev": "br0", "prefsrc": "10.0.0.9"},
                {"type": "blackhole", "dst": "10.6.0.0/16"},
            ]
        )
        self.assertEqual(
            {route.via: route.to for route in plan.all("route")},
            {
                "10.0.0.1": ("0.0.0.0/0", "10.9.0.0/16"),
                "10.0.0.3": ("10.8.0.5/32",),
                "10.0.0.4": ("10.8.0.5/32",),
            },
        )
        self.assertTrue(any("other family" in note.text for note in report.notes))
        for wrong in ({"gateway": "10.0.0.1"}, {"dst": "x", "gateway": "10.0.0.1"}, {"dst": "default", "gateway": "y"}):
            with self.assertRaisesRegex(PlanError, "h/ip-route.json: entry 1"):
                read([wrong])

    def test_two_nics_put_in_one_by_one_are_two_uplinks_and_reported(self) -> None:
        plan, report = read(
            **{
                "ip-link.json": links(
                    {"ifname": "eth0", "master": "br0"}, {"ifname": "eth1", "master": "br0"}, bridge("br0")
                )
            }
        )
        self.assertEqual(len(plan.of("uplink")), 2)
        self.assertTrue(any("forwards between them" in line for line in report))

    def test_what_a_plan_does_not_hold_is_left_out_with_a_reason(self) -> None:
        overlay = {"ifname": "vx7", "master": "br0", "linkinfo": {"info_kind": "vxlan"}}
        _, report = read(**{"ip-link.json": links(bridge("br0"), overlay)})
        self.assertTrue(any(line.startswith("left out heron/vx7") and "vxlan" in line for line in report))

    def test_tunnels_that_are_a_full_mesh_are_an_overlay(self) -> None:
        plan, report = tunnels()
        self.assertEqual(
            [(g.mode, g.vni, g.over) for g in plan.all("port_group")],
            [("overlay", 7001, f"{h}/br1/port/br1") for h in "ab"],
        )
        self.assertEqual({a.belongs for a in plan.all("adapter")}, {"segment:vni-7001"})
        self.assertFalse([line for line in report if "stays unproven" in line])
        self.assertEqual(hears(plan, asked=["a/t|42"])["a/t|42"], ["b/t|42"], "what the bridges don't filter passes")
        # The same by flood lists alone, the last resort of many; and by a multicast group.
        flooded = [{"mac": "00:00:00:00:00:00", "ifname": "vx", "dst": "10.67.0.2"}]
        for changes in ({"remote": None, "fdb": flooded}, {"remote": None, "group": "239.1.1.1"}, {"local": None}):
            far = {"remote": None, "group": "239.1.1.1"} if "group" in changes else {}
            plan, report = tunnels(changes, far)
            self.assertEqual(len(plan.where("port_group", "mode", "overlay")), 2, (changes, report))

    def test_tunnels_that_are_less_leave_their_switches_known_in_part(self) -> None:
        reasons: list[tuple[dict[str, object], str]] = [
            ({"port": 8472}, "its ends differ in encapsulation or UDP port"),
            ({"remote": "10.67.0.3"}, "10.67.0.3 isn’t part of the plan"),
            ({"remote": "10.67.0.1"}, "10.67.0.1 floods nothing to 10.67.0.2"),
            ({"remote": None}, "to whom it floods isn’t known"),
            ({"local": "10.67.0.9"}, "which host port carries it isn’t known"),
            ({"group": "239.1.1.1", "remote": None}, "its ends flood to different groups"),
            (
                {"fdb": [{"mac": "00:00:00:00:00:00", "ifname": "vx", "dst": "10.67.0.2", "vni": 5}]},
                "a port or VNI of its own",
            ),
            ({"filters": 1}, "its bridge filters VLANs"),
        ]
        for changes, reason in reasons:
            plan, report = tunnels(changes)
            self.assertTrue(any(reason in line for line in report), (changes, report))
            self.assertFalse(plan.where("port_group", "mode", "overlay"))
            self.assertTrue(plan.get("virtual_switch", "a/br0").partial)
        with self.assertRaisesRegex(PlanError, "a/bridge-fdb.json.*“nowhere” is no address"):
            tunnels({"fdb": [{"mac": "00:00:00:00:00:00", "ifname": "vx", "dst": "nowhere"}]})

    def test_pairs_of_interfaces_within_a_host(self) -> None:
        """Between two bridges they are a cable; with the host at the other end, its port."""
        pairs = [
            {"ifname": n, "link": far, "master": master, "linkinfo": {"info_kind": "veth"}}
            for n, far, master in (("p0", "p1", "br0"), ("p1", "p0", "br1"), ("q0", "q1", "br1"), ("q1", "q0", ""))
        ]
        taps = [tap("t0", "br0", "g0"), tap("t1", "br1", "g1")]
        addresses = json.dumps(
            [{"ifname": "q1", "addr_info": [{"local": "10.64.7.1", "prefixlen": 24, "scope": "global"}]}]
        ).encode()
        plan, report = read(
            **{"ip-link.json": links(bridge("br0"), bridge("br1"), *pairs, *taps), "ip-addr.json": addresses}
        )
        self.assertFalse([line for line in report if "stays unproven" in line])
        self.assertEqual(hears(plan)["heron/t0|"], ["heron/t1|"])
        self.assertEqual(
            [(p.switch, p.addresses) for p in plan.all("host_port")], [("heron/q1-switch", ("10.64.7.1/24",))]
        )

    def test_a_neighbour_that_says_goodbye_or_names_no_vlans_leaves_the_cable_open(self) -> None:
        eth0 = links({"ifname": "eth0", "master": "br0"}, bridge("br0"))
        goodbye = capture(frame(*MANDATORY), frame(MANDATORY[0], MANDATORY[1], (3, b"\x00\x00")))
        for name, raw in (("goodbye", goodbye), ("no VLANs", capture(frame(*MANDATORY)))):
            with self.subTest(name):
                plan, report = read(**{"ip-link.json": eth0, "eth0.lldp.pcap": raw})
                self.assertFalse(plan.of("cable"))
                self.assertTrue(any("heron/eth0" in line for line in report))

    def test_several_neighbours_on_one_nic_are_nobodys_cable(self) -> None:
        second = ((1, b"\x07egret"), (2, b"\x05p1"), (3, b"\x00\x78"))
        raw = capture(frame(*MANDATORY), frame(*second))
        plan, report = read(**{"ip-link.json": links({"ifname": "eth0"}), "eth0.lldp.pcap": raw})
        self.assertFalse(plan.of("cable"))
        self.assertTrue(any("several neighbours" in line for line in report), report)


def tunnels(changes: dict[str, object] | None = None, far: dict[str, object] | None = None) -> tuple[Plan, list[str]]:
    """Hosts a and b, each with a tap in a bridge with a tunnel to the other's address; a's state has some changes, b's others."""
    files: dict[str, bytes] = {}
    for n, (host, own) in enumerate((("a", changes), ("b", far)), 1):
        said = {"local": f"10.67.0.{n}", "remote": f"10.67.0.{3 - n}", "port": 4789, "id": 7001, **(own or {})}
        table, filters = said.pop("fdb", []), said.pop("filters", 0)
        info = {key: value for key, value in said.items() if value is not None}
        tunnel = {"ifname": "vx", "master": "br0", "linkinfo": {"info_kind": "vxlan", "info_data": info}}
        address = {"ifname": "br1", "addr_info": [{"local": f"10.67.0.{n}", "prefixlen": 24, "scope": "global"}]}
        nic = {"ifname": "e0", "master": "br1"}
        files[f"{host}/ip-link.json"] = links(
            bridge("br0", filters), bridge("br1"), nic, tunnel, tap("t", "br0", f"guest-{host}")
        )
        files[f"{host}/ip-addr.json"] = json.dumps([address]).encode()
        files[f"{host}/bridge-fdb.json"] = json.dumps(table).encode()
        files[f"{host}/e0.lldp.pcap"] = capture(frame((1, b"\x07rack"), (2, f"\x05p{n}".encode()), (3, b"\x00\x78")))
    files["rack/ip-link.json"] = links(bridge("sw"), *({"ifname": f"p{n}", "master": "sw"} for n in (1, 2)))
    plan, report = read_hosts(files, "test")
    return plan, [f"{n.what} {n.about}: {n.text}" for n in report.notes]


def bond(name: str, mode: str, **info: object) -> dict:
    return {"ifname": name, "master": "br0", "linkinfo": {"info_kind": "bond", "info_data": {"mode": mode, **info}}}


def member(name: str, master: str = "bond0") -> dict:
    return {"ifname": name, "master": master, "linkinfo": {"info_kind": "veth", "info_slave_kind": "bond"}}


def vlans(*ports: tuple[str, list[dict]]) -> bytes:
    return json.dumps([{"ifname": name, "vlans": entries} for name, entries in ports]).encode()


PVID = ["PVID", "Egress Untagged"]


class ShapesTest(unittest.TestCase):
    """One thing at a time of what the kernel can say."""

    def test_bonding_modes(self) -> None:
        """Those that need a LAG at the far end, or rewrite source addresses, leave open what depends on them."""
        modes = {
            "active-backup": ("standby", ""),
            "balance-xor": ("hashed", ""),
            "balance-rr": ("hashed", "without one LAG at its far end"),
            "802.3ad": ("lacp", ""),
            "balance-alb": ("pinned", "which rewrites source addresses"),
        }
        for said, (mode, why) in modes.items():
            files = {"ip-link.json": links(member("e0"), member("e1"), bond("bond0", said), bridge("br0"))}
            plan, report = read(**files)
            uplink = next(iter(plan.all("uplink")))
            self.assertEqual((uplink.mode, uplink.allowed), (mode, None))
            self.assertEqual([n.rank for n in plan.all("nic")], [0, 1])
            self.assertEqual(next(iter(plan.all("virtual_switch"))).partial, bool(why))
            self.assertEqual(any(why in line for line in report if "stays unproven" in line), bool(why))
        with self.assertRaisesRegex(PlanError, "“tug-of-war” is no bonding mode"):
            read(**{"ip-link.json": links(member("e0"), bond("bond0", "tug-of-war"), bridge("br0"))})

    def test_the_primary_member_comes_first_and_the_active_one_carries(self) -> None:
        files = {
            "ip-link.json": links(
                member("e0"),
                member("e1"),
                bond("bond0", "active-backup", primary="e1", active_slave="e0"),
                bridge("br0"),
            )
        }
        plan, _ = read(**files)
        self.assertEqual({n.name: n.rank for n in plan.all("nic")}, {"e1": 0, "e0": 1})
        self.assertEqual(next(iter(plan.all("uplink"))).carries, "heron/e0")

    def test_a_nic_without_link_is_read_so(self) -> None:
        down = {"ifname": "e1", "master": "br0", "flags": ["UP"], "operstate": "DOWN"}
        plan, _ = read(**{"ip-link.json": links({"ifname": "e0", "master": "br0"}, down, bridge("br0"))})
        self.assertEqual({n.name: n.link for n in plan.all("nic")}, {"e0": "up", "e1": "down"})

    def test_tags_of_taps_on_a_filtering_bridge(self) -> None:
        taps = [tap(f"t{n}", "br0", f"guest{n}") for n in range(6)]
        table = vlans(
            ("t0", [{"vlan": 10, "flags": PVID}]),
            ("t1", [{"vlan": 10, "flags": PVID}]),
            ("t2", [{"vlan": 10}, {"vlan": 200, "vlanEnd": 203}]),
            ("t3", [{"vlan": 10}, {"vlan": 30, "flags": PVID}]),
            ("t5", [{"vlan": 10, "flags": ["PVID"]}]),
        )
        plan, _ = read(**{"ip-link.json": links(bridge("br0", 1), *taps), "bridge-vlan.json": table})
        groups = {a.name: plan.get("port_group", a.port_group) for a in plan.all("adapter")}
        self.assertIs(groups["t0"], groups["t1"])
        self.assertEqual((groups["t0"].mode, groups["t0"].vid), ("access", 10))
        self.assertEqual((groups["t2"].allowed, groups["t2"].native), ("10, 200-203", None))
        self.assertEqual((groups["t3"].allowed, groups["t3"].native), ("10, 30", 30))
        self.assertEqual((groups["t4"].mode, groups["t4"].allowed), ("trunk", ""))
        odd = groups["t5"]
        self.assertEqual((odd.mode, odd.pvid, odd.members, odd.untagged), ("standard", 10, "10", None))
        self.assertEqual(
            sorted(t.vid for t in plan.all("guest_tag") if t.adapter == "heron/t2"), [10, 200, 201, 202, 203]
        )

    def test_guests_with_several_taps_without_alias_and_of_one_name(self) -> None:
        files = {
            "ip-link.json": links(bridge("br0"), tap("t0", "br0", "pilot"), tap("t1", "br0", "pilot"), tap("t2", "br0"))
        }
        other = links(bridge("br0"), tap("t9", "br0", "pilot"))
        plan, report = read_hosts({**{f"heron/{k}": v for k, v in files.items()}, "egret/ip-link.json": other}, "two")
        names = {g.name: len([a for a in plan.all("adapter") if a.guest == g.id]) for g in plan.all("guest")}
        self.assertEqual(names, {"pilot": 1, "pilot (heron)": 2, "t2": 1})
        self.assertTrue(any("no alias" in n.text for n in report.notes))

    def test_host_ports_that_the_bridge_itself_keeps_out(self) -> None:
        files = {
            "ip-link.json": links(bridge("br0", 1), vlan("v10", "br0", 10), vlan("v20", "br0", 20)),
            "bridge-vlan.json": vlans(("br0", [{"vlan": 10}])),
        }
        plan, report = read(**files)
        self.assertEqual({p.name: p.connected for p in plan.all("host_port")}, {"v10": True, "v20": False})
        self.assertTrue(any("doesn’t let VID 20 through" in line for line in report))

    def test_an_addressed_filtering_bridge_sits_on_its_own_pvid(self) -> None:
        files = {
            "ip-link.json": links(bridge("br0", 1)),
            "ip-addr.json": b'[{"ifname": "br0", "addr_info": [{"scope": "global", "local": "10.64.0.9", "prefixlen": 24}, {"scope": "link", "local": "fe80::1", "prefixlen": 64}]}]',
            "bridge-vlan.json": vlans(("br0", [{"vlan": 30, "flags": PVID}])),
        }
        plan, _ = read(**files)
        port = next(iter(plan.all("host_port")))
        self.assertEqual((port.vid, port.addresses, port.belongs), (30, ("10.64.0.9/24",), "segment:30"))
        self.assertEqual(plan.get("segment", "segment:30").subnets, ("10.64.0.0/24",))

    def test_ports_that_do_not_forward_are_disconnected_or_disabled(self) -> None:
        files = {
            "ip-link.json": links(bridge("br0"), tap("t0", "br0", "a"), tap("t1", "br0", "b")),
            "bridge-link.json": b'[{"ifname": "t0", "state": "blocking"}, {"ifname": "t1", "state": "forwarding"}]',
        }
        plan, report = read(**files)
        self.assertEqual({a.name: a.connected for a in plan.all("adapter")}, {"t0": False, "t1": True})
        self.assertTrue(any(line.startswith("read heron/t0") and "blocking" in line for line in report))

    def test_service_tags_are_not_vlan_tags(self) -> None:
        outer = vlan("s10", "br0", 10)
        outer["linkinfo"]["info_data"]["protocol"] = "802.1ad"
        plan, report = read(**{"ip-link.json": links(bridge("br0"), outer)})
        self.assertFalse(plan.of("host_port"))
        self.assertTrue(any("tags with 802.1ad" in line for line in report))
        self.assertTrue(plan.get("virtual_switch", "heron/br0").partial)

    def test_vids_out_of_range_are_refused_with_their_place(self) -> None:
        for table in ([{"vlan": 0}], [{"vlan": 4095}], [{"vlan": 20, "vlanEnd": 10}], [{"vlan": "ten"}]):
            with (
                self.subTest(table=table),
                self.assertRaisesRegex(PlanError, "heron/bridge-vlan.json: entry 1, vlans: entry 1"),
            ):
                read(**{"ip-link.json": links(bridge("br0", 1)), "bridge-vlan.json": vlans(("br0", table))})

    def test_folders_may_lie_deeper_but_not_twice(self) -> None:
        raw = links(bridge("br0"))
        plan, _ = read_hosts({"backup/monday/heron/ip-link.json": raw}, "deep")
        self.assertEqual(list(plan.of("host")), ["heron"])
        with self.assertRaisesRegex(PlanError, "a second ip-link.json for the device heron"):
            read_hosts({"a/heron/ip-link.json": raw, "b/heron/ip-link.json": raw}, "twice")


class NeighboursTest(unittest.TestCase):
    """What LLDP says of the port at the other end."""

    def heard(self, *tlvs: tuple[int, bytes]) -> tuple[Plan, list[str]]:
        eth0 = links({"ifname": "eth0", "master": "br0"}, bridge("br0"))
        return read(**{"ip-link.json": eth0, "eth0.lldp.pcap": capture(frame(*MANDATORY, *tlvs))})

    def vlan_name(self, vid: int, name: bytes = b"x") -> tuple[int, bytes]:
        return (127, b"\x00\x80\xc2\x03" + struct.pack(">HB", vid, len(name)) + name)

    def pvid(self, vid: int) -> tuple[int, bytes]:
        return (127, b"\x00\x80\xc2\x01" + struct.pack(">H", vid))

    def test_a_pvid_alone_says_nothing_of_other_vids(self) -> None:
        plan, _ = self.heard(self.pvid(30))
        port = plan.get("fabric_port", "gull-rack/p7")
        self.assertEqual((port.mode, port.allowed, port.native, port.partial), ("trunk", "", 30, True))
        self.assertEqual(
            next(iter(plan.all("cable"))).a, "gull-rack/p7" if "gull-rack/p7" < "heron/eth0" else "heron/eth0"
        )

    def test_names_without_pvid_are_a_trunk_that_drops_untagged_frames(self) -> None:
        plan, _ = self.heard(self.pvid(0), self.vlan_name(10), self.vlan_name(20, b"crew"))
        port = plan.get("fabric_port", "gull-rack/p7")
        self.assertEqual((port.mode, port.allowed, port.native), ("trunk", "10, 20", None))
        self.assertEqual(plan.get("segment", "segment:20").name, "crew")

    def test_names_and_pvid_are_a_trunk_with_native(self) -> None:
        plan, _ = self.heard(self.pvid(99), self.vlan_name(10), self.vlan_name(99))
        port = plan.get("fabric_port", "gull-rack/p7")
        self.assertEqual((port.allowed, port.native), ("10", 99))

    def test_frame_size_and_aggregation(self) -> None:
        size = (127, b"\x00\x12\x0f\x04" + struct.pack(">H", 9018))
        lag = (127, b"\x00\x12\x0f\x03\x03\x00\x00\x00\x07")
        plan, report = self.heard(self.pvid(30), size, lag)
        self.assertEqual(plan.get("fabric_port", "gull-rack/p7").mtu, 9000)
        self.assertTrue(any("says that it is in a LAG" in line for line in report))

    def test_the_system_name_is_the_switchs_name(self) -> None:
        plan, _ = self.heard((5, b"quay-a"), self.pvid(30))
        self.assertEqual([s.name for s in plan.all("fabric_switch")], ["quay-a"])

    def test_ids_in_their_several_forms(self) -> None:
        mac = bytes.fromhex("02640a000001")
        cases = [
            (b"\x04" + mac, "02:64:0a:00:00:01", True),
            (b"\x05\x01\x0a\x40\x00\x01", "10.64.0.1", False),
            (b"\x05\x02" + bytes(15) + b"\x01", "::1", False),
            (b"\x07gull", "gull", False),
            (b"\x06\xff\x00x", "\N{REPLACEMENT CHARACTER}\N{REPLACEMENT CHARACTER}x", False),
        ]
        for raw, text, is_mac in cases:
            found = lldp.read_frame(frame((1, raw), MANDATORY[1], MANDATORY[2]), "f")
            assert found is not None
            self.assertEqual((found.chassis, found.chassis_is_mac), (text, is_mac))

    def test_a_port_named_by_its_mac_is_called_as_it_describes_itself(self) -> None:
        eth0 = links({"ifname": "eth0", "master": "br0"}, bridge("br0"))
        said = frame(MANDATORY[0], (2, b"\x03\x02\x64\x0a\x00\x00\x01"), MANDATORY[2], (4, b"p7"), self.pvid(30))
        plan, _ = read(**{"ip-link.json": eth0, "eth0.lldp.pcap": capture(said)})
        self.assertIn("gull-rack/p7", plan.of("fabric_port"))

    def test_other_frames_in_a_capture_are_passed_over(self) -> None:
        arp = bytes.fromhex("ffffffffffff02640a0000010806") + bytes(28)
        self.assertIsNone(lldp.read_frame(arp, "f"))
        self.assertIsNone(lldp.read_frame(b"short", "f"))
        eth0 = links({"ifname": "eth0", "master": "br0"}, bridge("br0"))
        plan, _ = read(**{"ip-link.json": eth0, "eth0.lldp.pcap": capture(arp, frame(*MANDATORY, self.pvid(30)), arp)})
        self.assertTrue(plan.of("cable"))

    def test_byte_orders_and_clocks_of_captures(self) -> None:
        data = frame(*MANDATORY)
        for magic, order, parts in (
            (0xA1B2C3D4, "<", 10**6),
            (0xA1B2C3D4, ">", 10**6),
            (0xA1B23C4D, "<", 10**9),
            (0xA1B23C4D, ">", 10**9),
        ):
            raw = struct.pack(order + "IHHiIII", magic, 2, 4, 0, 0, 65535, 1)
            raw += struct.pack(order + "IIII", 5, parts // 2, len(data), len(data)) + data
            self.assertEqual(pcap.frames(raw, "x"), [(5.5, data)])
        with self.assertRaisesRegex(PlanError, "link type 113"):
            pcap.frames(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 113), "x")
        with self.assertRaisesRegex(PlanError, "no pcap file"):
            pcap.frames(bytes(24), "x")
        huge = capture()[:24] + struct.pack("<IIII", 0, 0, 2**31, 2**31)
        with self.assertRaisesRegex(PlanError, "claims 2147483648 bytes"):
            pcap.frames(huge, "x")

    def test_two_ports_that_both_claim_one_cable_end_are_refused(self) -> None:
        raw = capture(frame(*MANDATORY, self.pvid(30)))
        nics = links({"ifname": "eth0"}, {"ifname": "eth1"})
        with self.assertRaisesRegex(PlanError, "would be cabled to both"):
            read(**{"ip-link.json": nics, "eth0.lldp.pcap": raw, "eth1.lldp.pcap": raw})


class HostileInputTest(unittest.TestCase):
    def refused(self, **files: bytes) -> str:
        with self.assertRaises(PlanError) as caught:
            read(**files)
        return str(caught.exception)

    def test_a_capture_cut_at_any_byte_is_refused_or_whole(self) -> None:
        raw = two_hosts_files()["gannet/nic0.lldp.pcap"]
        whole = {24, 24 + 16 + 201}
        for length in range(len(raw)):
            if length in whole:
                self.assertIsInstance(pcap.frames(raw[:length], "x"), list)
                continue
            with self.assertRaisesRegex(PlanError, "x: byte"):
                pcap.frames(raw[:length], "x")

    def test_lying_tlv_lengths_name_the_tlv(self) -> None:
        cut = frame(*MANDATORY)[:-4] + b"\xff\xff"
        said = self.refused(**{"ip-link.json": links({"ifname": "eth0"}), "eth0.lldp.pcap": capture(cut)})
        self.assertIn("heron/eth0.lldp.pcap: frame 1: TLV", said)
        for tlv, part in (
            ((127, b"\x00\x80\xc2\x03\x00\x6e\x09vlan110"), "VLAN name of 9 bytes"),
            ((127, b"\x00\x80\xc2\x03\xff\xff\x00"), "65535 is no VID"),
            ((127, b"\x00\x80\xc2\x01\x00"), "2 are needed"),
            ((127, b"\x00"), "needs 4 bytes"),
        ):
            with self.subTest(part), self.assertRaisesRegex(PlanError, part):
                lldp.read_frame(frame(*MANDATORY, tlv), "f")
        with self.assertRaisesRegex(PlanError, "begins with chassis id"):
            lldp.read_frame(frame(MANDATORY[1], MANDATORY[0], MANDATORY[2]), "f")

    @settings(max_examples=300)
    @given(st.binary(max_size=300))
    def test_any_bytes_are_read_or_refused(self, raw: bytes) -> None:
        head = bytes.fromhex("0180c200000e02161eb1f30888cc")
        for attempt in (lambda: lldp.read_frame(head + raw, "f"), lambda: pcap.frames(capture()[:24] + raw, "f")):
            try:
                attempt()
            except PlanError as error:
                self.assertTrue(str(error).startswith("f"))

    @settings(max_examples=150)
    @given(st.randoms(use_true_random=False))
    def test_state_of_another_shape_is_refused_by_file_and_place(self, dice: random.Random) -> None:
        files = two_hosts_files()
        name = dice.choice([n for n in files if n.endswith(".json") and "/" in n])
        data = json.loads(files[name])
        at = data
        while isinstance(at, (list, dict)) and at and dice.random() < 0.8:
            key = dice.choice(list(at)) if isinstance(at, dict) else dice.randrange(len(at))
            if not isinstance(at[key], (list, dict)) or dice.random() < 0.3:
                at[key] = dice.choice([None, -1, 10**12, "x" * 200, [], {}, [[]], True])
                break
            at = at[key]
        files[name] = json.dumps(data).encode()
        try:
            read_hosts(files, "mutated")
        except PlanError as error:
            self.assertTrue(all(p.place for p in error.problems), str(error))

    def test_deep_nesting_and_missing_files(self) -> None:
        self.assertIn("heron/ip-link.json: is nested too deeply", self.refused(**{"ip-link.json": b"[" * 500_000}))
        self.assertIn("ip-link.json", self.refused(**{"eth0.lldp.pcap": capture()}))
        self.assertIn("no folder", self.refused(**{"notes.txt": b"hello"}))
        self.assertIn("entry 1: field ifname", self.refused(**{"ip-link.json": b'[{"ifindex": 1}]'}))


if __name__ == "__main__":
    unittest.main()
