"""Runs as the first process of the bench's kernel: builds scenes, sends frames, notes who received them.

It knows nothing of plans and imports nothing but the standard library.  Jobs come as files in the folder that it is
given, answers go there; each is written under another name first, so that nobody reads half of one.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import ipaddress
import json
import mmap
import os
import pathlib
import re
import select
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import product
from typing import Any

LIBC = ctypes.CDLL(None, use_errno=True)
NEW_NET, NEW_UTS = 0x40000000, 0x04000000
LLDP = 0x88CC
LLDP_PATIENCE = 20
ALL_PROTOCOLS = 3
OURS = 0x88B5  # for local experiments (IEEE 802 clause 9.2.3)
MARK = b"APTW"
MODULES = "bridge 8021q bonding veth vxlan geneve dummy tun macvlan macvtap sch_ingress cls_flower cls_matchall act_gact act_mirred act_police iptable_filter ip6table_filter iptable_nat iptable_mangle xt_conntrack xt_tcpudp xt_MASQUERADE xt_nat xt_mark"
SOL_PACKET, RX_RING, STATISTICS, AUXDATA, PACKET_VERSION, IGNORE_OUTGOING = 263, 5, 6, 8, 10, 23
TPACKET_V2, OURS_TO_READ, VLAN_VALID = 1, 1, 1 << 4
HEAD, STATUS, INTERFACE = struct.Struct("IIIHHIIH"), struct.Struct("I"), struct.Struct("i")
FEWEST, LARGEST_RING = 512, 1 << 17
"""Frames that a ring has place for."""
IFF_UP = 1
SETTLED, ENDLESS = 15.0, 20.0


class Failed(Exception):
    """Something in the kernel didn't take what it was told."""


def sh(line: str, **more: Any) -> None:
    """A step of the set-up."""
    done = subprocess.run(line, shell=True, text=True, capture_output=True, check=False, **more)
    if done.returncode:
        raise Failed(f"{line}: {done.stdout}{done.stderr}")


class Kernel:
    """This kernel: its namespaces by name."""

    def __init__(self) -> None:
        self.home = os.open("/proc/self/ns/net", os.O_RDONLY)
        self.spaces: dict[str, int] = {}

    def make(self, name: str) -> None:
        """A namespace, in which nothing speaks unasked."""
        if LIBC.unshare(NEW_NET):
            raise Failed(f"no namespace {name}: {os.strerror(ctypes.get_errno())}")
        path = f"/run/netns/{name}"
        open(path, "w").close()
        if LIBC.mount(b"/proc/self/ns/net", path.encode(), b"none", 4096, None):
            raise Failed(f"no namespace {name}: {os.strerror(ctypes.get_errno())}")
        for key, value in (("arp_ignore", 1), ("arp_announce", 2), ("rp_filter", 0)):
            for which in ("all", "default"):
                with open(f"/proc/sys/net/ipv4/conf/{which}/{key}", "w") as file:
                    file.write(str(value))
        self.spaces[name] = os.open(path, os.O_RDONLY)
        os.mkdir(f"/run/sys/{name}")
        if LIBC.mount(b"sysfs", f"/run/sys/{name}".encode(), b"sysfs", 0, None):
            raise Failed(f"no state of namespace {name}: {os.strerror(ctypes.get_errno())}")
        self.leave()

    def enter(self, name: str) -> None:
        """Work inside a namespace."""
        if LIBC.setns(self.spaces[name], NEW_NET):
            raise Failed(f"namespace {name} is gone")

    def leave(self) -> None:
        """Back to where it began."""
        LIBC.setns(self.home, NEW_NET)

    def drop(self, name: str) -> None:
        """Take a namespace away with all that is in it."""
        os.close(self.spaces.pop(name))
        LIBC.umount2(f"/run/sys/{name}".encode(), 2)
        os.rmdir(f"/run/sys/{name}")
        LIBC.umount2(f"/run/netns/{name}".encode(), 2)
        os.unlink(f"/run/netns/{name}")

    def set(self, space: str, device: str, what: str, value: str) -> None:
        """Change a device's attribute in a namespace: much quicker than a tool, which has to be started first."""
        with open(f"/run/sys/{space}/class/net/{device}/{what}", "w") as file:
            file.write(value)

    def link(self, space: str, device: str, up: bool) -> None:
        """Plug a cable in or out."""
        with open(f"/run/sys/{space}/class/net/{device}/flags") as file:
            flags = int(file.read(), 16)
        self.set(space, device, "flags", hex(flags | IFF_UP if up else flags & ~IFF_UP))

    def filter(self, space: str, text: str, six: bool = False) -> None:
        """Put a filter of IPv4 (or `six`) into a namespace."""
        self.enter(space)
        try:
            tool = "ip6tables-legacy-restore" if six else "iptables-legacy-restore"
            done = subprocess.run([tool], input=text, text=True, capture_output=True, check=False)
        finally:
            self.leave()
        if done.returncode:
            raise Failed(f"filter in {space}: {text}: {done.stderr.strip()}")

    def tell(self, tool: str, lines: list[str], space: str | None = None) -> str:
        """Batch lines for a tool of iproute2."""
        if not lines:
            return ""
        if space:
            self.enter(space)
        try:
            done = subprocess.run(
                [tool, "-batch", "-"], input="\n".join(lines) + "\n", text=True, capture_output=True, check=False
            )
        finally:
            if space:
                self.leave()
        if done.returncode:
            where = done.stderr.rsplit("Command failed -:", 1)
            line = lines[int(where[1].split()[0]) - 1] if len(where) == 2 else ""
            raise Failed(f"{tool} in {space}: {line}: {done.stderr.strip()}")
        return done.stdout


def tags_of(data: bytes) -> list[int]:
    """The VIDs of the tags that stand in a frame, outermost first."""
    found: list[int] = []
    while data[12 + 4 * len(found) : 14 + 4 * len(found)] == b"\x81\x00" and len(found) < 4:
        found.append(struct.unpack_from("!H", data, 14 + 4 * len(found))[0] & 0xFFF)
    return found


def marked(data: bytes) -> int:
    """Where a frame of the bench's own bears its number, 0 in any other; one inside a tunnel's packet doesn't count.

    The mark follows the EtherType, or the headers of IPv4 and UDP, or those of IPv6 and a router advertisement.
    """
    for at in (14, 42, 70):
        at += 4 * len(tags_of(data))
        if data[at : at + len(MARK)] == MARK:
            return at + len(MARK)
    return 0


class Ring:
    """A socket at a device, or at all devices of a namespace, whose frames come by shared memory: no call for each of them."""

    SLOT, BLOCK = 256, 1 << 16
    """Bytes of a frame's place, its head included: the bench's number stands near its beginning."""

    def __init__(self, frames: int, device: str = "") -> None:
        self.sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ALL_PROTOCOLS))
        self.sock.setsockopt(SOL_PACKET, IGNORE_OUTGOING, 1)
        if device:
            self.sock.bind((device, ALL_PROTOCOLS))
        each = self.BLOCK // self.SLOT
        blocks = -(-frames // each)
        self.slots = blocks * each
        self.sock.setsockopt(SOL_PACKET, PACKET_VERSION, struct.pack("i", TPACKET_V2))
        self.sock.setsockopt(SOL_PACKET, RX_RING, struct.pack("4I", self.BLOCK, blocks, self.SLOT, self.slots))
        self.memory = mmap.mmap(self.sock.fileno(), blocks * self.BLOCK)
        self.next = 0

    def read(self) -> Iterator[tuple[int, bytes, int | None]]:
        """(interface, the first bytes of the frame, tag that the kernel keeps beside it) of what is there."""
        memory = self.memory
        while True:
            at = self.next * self.SLOT
            # struct tpacket2_hdr, and struct sockaddr_ll behind it.
            status, _, length, mac, _, _, _, tci = HEAD.unpack_from(memory, at)
            if not status & OURS_TO_READ:
                return
            (interface,) = INTERFACE.unpack_from(memory, at + 36)
            data = memory[at + mac : at + mac + length]
            STATUS.pack_into(memory, at, 0)
            self.next = (self.next + 1) % self.slots
            yield interface, data, tci & 0xFFF if status & VLAN_VALID else None

    def lost(self) -> int:
        """How many frames found no place since it was last asked."""
        return int(struct.unpack("2I", self.sock.getsockopt(SOL_PACKET, STATISTICS, 8))[1])

    def close(self) -> None:
        """Let it go."""
        self.memory.close()
        self.sock.close()


class Ears:
    """Rings at all the seats of a scene: one for a namespace in which every device is an ear, else one each."""

    def __init__(self, kernel: Kernel, ears: list[list[str]]) -> None:
        self.at: list[tuple[socket.socket, str]] = []
        self.number: dict[tuple[int, int], int] = {}
        self.rings: dict[int, Ring] = {}
        together: dict[str, int] = {}
        for space, _ in ears:
            together[space] = together.get(space, 0) + 1
        shared: dict[str, Ring] = {}
        self.batch = max(1, min(50, LARGEST_RING // (2 * max(together.values(), default=1))))
        for n, (space, device) in enumerate(ears):
            kernel.enter(space)
            if not space.endswith("e"):
                ring = Ring(FEWEST, device)
            elif space in shared:
                ring = shared[space]
            else:
                ring = shared[space] = Ring(max(FEWEST, 2 * self.batch * together[space]))
            interface = socket.if_nametoindex(device)
            kernel.leave()
            self.rings[ring.sock.fileno()] = ring
            self.at.append((ring.sock, device))
            self.number[ring.sock.fileno(), interface] = n
        self.poll = select.epoll()
        for fileno in self.rings:
            self.poll.register(fileno, select.EPOLLIN)

    def send(self, ear: int, frame: bytes) -> None:
        """Put a frame onto the wire."""
        sock, device = self.at[ear]
        for _ in range(200):
            try:
                sock.sendto(frame, (device, OURS))
                return
            except BlockingIOError:
                time.sleep(0.005)
            except OSError as error:
                if error.errno in (
                    errno.ENETDOWN,
                    errno.ENXIO,
                    errno.EMSGSIZE,
                ):  # the device is down, or the packet too large for it: nothing leaves
                    return
                raise Failed(f"{device} takes no frames: {error}") from None
        raise Failed(f"{device} takes no frames")

    def drain(self, quiet: float) -> Iterator[tuple[int, int, int | None]]:
        """(question, ear, tag) of what came in, until nothing does for a while."""
        deadline = time.monotonic() + ENDLESS
        while ready := self.poll.poll(quiet):
            if time.monotonic() > deadline:
                raise Failed("frames go round in a loop and never come to rest")
            for fileno, _ in ready:
                yield from self._read(fileno)

    def _read(self, fileno: int) -> Iterator[tuple[int, int, int | None]]:
        for interface, data, tag in self.rings[fileno].read():
            tags = ([] if tag is None else [tag]) + tags_of(data)
            ear = self.number.get((fileno, interface))
            at = marked(data)
            if at and ear is not None:
                # Further tags stand above the outermost, twelve bits each.
                outer = sum(vid << 12 * n for n, vid in enumerate(tags)) if tags else None
                yield struct.unpack_from("!I", data, at)[0], ear, outer

    def whole(self) -> None:
        """Failed if a frame found no place: then who didn't hear isn't known."""
        if lost := sum(ring.lost() for ring in self.rings.values()):
            raise Failed(f"{lost} frames came faster than they were read")

    def close(self) -> None:
        """Let all of them go."""
        self.poll.close()
        for ring in self.rings.values():
            ring.close()


def came(sock: socket.socket) -> Iterator[bytes]:
    """The packets that wait at a socket, which is closed then."""
    with sock:
        while True:
            try:
                yield sock.recv(2048)
            except BlockingIOError:
                return


class Echo:
    """An ICMP echo request (RFC 792) over a device (empty: whichever the routing table says), and the reply that it may get."""

    def __init__(self, device: str, address: str, number: int) -> None:
        self.number, self.address = number, socket.inet_aton(address)
        self.sock = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
        if device:
            self.sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device.encode())
        self.sock.setblocking(False)
        check = ~(0x0800 + number) & 0xFFFF
        try:
            self.sock.sendto(struct.pack("!BBHHH", 8, 0, check, number, 0), (address, 0))
        except OSError as error:
            if error.errno not in (errno.ENETDOWN, errno.ENETUNREACH, errno.EHOSTUNREACH):
                raise

    def answered(self) -> bool:
        """Whether a reply to it came, from the address that was asked: another one's isn't its answer (RFC 792)."""
        wanted = struct.pack("!H", self.number)
        heads = ((packet, (packet[0] & 15) * 4) for packet in came(self.sock) if packet[12:16] == self.address)
        return any(packet[at : at + 1] == b"\0" and packet[at + 4 : at + 6] == wanted for packet, at in heads)


class Echo6:
    """The same of ICMPv6 (RFC 4443 section 4.1), as the routing table says; the kernel works out its checksum."""

    def __init__(self, address: str, number: int) -> None:
        self.number, self.address = number, socket.inet_pton(socket.AF_INET6, address)
        self.sock = socket.socket(socket.AF_INET6, socket.SOCK_RAW, socket.IPPROTO_ICMPV6)
        self.sock.setblocking(False)
        try:
            self.sock.sendto(struct.pack("!BBHHH", 128, 0, 0, number, 0), (address, 0))
        except OSError as error:
            if error.errno not in (errno.ENETDOWN, errno.ENETUNREACH, errno.EHOSTUNREACH, errno.EADDRNOTAVAIL):
                raise

    def answered(self) -> bool:
        """Whether a reply to it came, from the address that was asked."""
        wanted = b"\x81\0", struct.pack("!H", self.number)
        with self.sock, contextlib.suppress(BlockingIOError):
            while True:
                packet, (source, *_) = self.sock.recvfrom(2048)
                from_it = socket.inet_pton(socket.AF_INET6, source.partition("%")[0]) == self.address
                if from_it and (packet[:2], packet[4:6]) == wanted:
                    return True
        return False


class Connect:
    """A TCP connection (RFC 9293 section 3.5) as the routing table says, to a port at which somebody listens."""

    def __init__(self, address: str, port: int) -> None:
        self.sock = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_STREAM)
        self.sock.setblocking(False)
        self.begun = self.sock.connect_ex((address, port))

    def answered(self) -> bool:
        """Whether the connection stands."""
        with self.sock:
            if self.begun not in (0, errno.EINPROGRESS):
                return False
            _, ready, _ = select.select([], [self.sock], [], 0)
            return bool(ready) and self.sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR) == 0


class Discover:
    """A DHCPDISCOVER (RFC 2131 clause 3.1) and the offers that it may get."""

    def __init__(self, device: str, number: int, mac: str = "") -> None:
        self.number = number
        self.sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        self.sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        self.sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device.encode())
        self.sock.bind(("0.0.0.0", 68))
        self.sock.setblocking(False)
        own = bytes.fromhex(mac.replace(":", "")) or bytes([2, 0xA7, 0xFE, 0, number >> 8, number & 255])
        head = struct.pack("!BBBBIHH", 1, 1, 6, 0, number, 0, 0x8000) + bytes(16) + own.ljust(16, b"\0") + bytes(192)
        self.sock.sendto(head + b"\x63\x82\x53\x63\x35\x01\x01\xff", ("255.255.255.255", 67))

    def answered(self) -> bool:
        """Whether an offer for it came."""
        return bool(self.offers())

    def offers(self) -> list[list[Any]]:
        """The offers for it that came: the server's address, the address offered, the gateways (RFC 2132 sections 9.7 and 3.5)."""
        wanted, found = struct.pack("!I", self.number), []
        for answer in came(self.sock):
            if answer[:1] == b"\x02" and answer[4:8] == wanted:
                options = dict(self.options(answer[240:]))
                routers = options.get(3, b"")
                gateways = [socket.inet_ntoa(routers[n : n + 4]) for n in range(0, len(routers), 4)]
                server = socket.inet_ntoa(options.get(54, bytes(4)))
                found.append([server, socket.inet_ntoa(answer[16:20]), gateways])
        return found

    @staticmethod
    def options(data: bytes) -> Iterator[tuple[int, bytes]]:
        """The options of a message, each a number, a length and a value (RFC 2132 section 2); 0 is padding, 255 the end."""
        while data and data[0] != 255:
            if data[0] == 0:
                data = data[1:]
                continue
            length = data[1] if len(data) > 1 else 0
            yield data[0], data[2 : 2 + length]
            data = data[2 + length :]


class Solicit:
    """A Solicit of DHCPv6 (RFC 8415 section 16.2) and the Advertise messages that it may get."""

    def __init__(self, device: str, number: int) -> None:
        self.wanted = number.to_bytes(3)
        self.sock = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
        self.sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        self.sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device.encode())
        self.sock.bind(("::", 546))
        self.sock.setblocking(False)
        # By an identifier of its own (section 11.4), for one address, at once.
        own = struct.pack("!HH", 3, 1) + bytes([2, 0xA7, 0xFE, 1, number >> 8, number & 255])
        options = ((1, own), (3, struct.pack("!III", number, 0, 0)), (8, bytes(2)))
        said = b"".join(struct.pack("!HH", code, len(value)) + value for code, value in options)
        self.sock.sendto(b"\x01" + self.wanted + said, ("ff02::1:2", 547, 0, socket.if_nametoindex(device)))

    def offers(self) -> list[list[Any]]:
        """What is offered: the server's own identifier (section 11.3, of which its number is what follows the enterprise), the address (sections 21.3, 21.4 and 21.6), and
        no gateways."""
        found = []
        with contextlib.suppress(BlockingIOError):
            while True:
                answer = self.sock.recv(2048)
                if answer[:4] != b"\x02" + self.wanted:
                    continue
                told = dict(self.options(answer[4:]))
                offered = dict(self.options(told.get(3, b"")[12:])).get(5, b"")[:16]
                if offered:
                    found.append([told[2][6:].hex(), socket.inet_ntop(socket.AF_INET6, offered), []])
        return found

    @staticmethod
    def options(data: bytes) -> Iterator[tuple[int, bytes]]:
        """The options of a message, each a number, a length and a value (section 21.1)."""
        while len(data) >= 4:
            code, length = struct.unpack("!HH", data[:4])
            yield code, data[4 : 4 + length]
            data = data[4 + length :]


def wait_for(path: str) -> dict[str, Any]:
    """What is in a file, once it is there."""
    while not os.path.exists(path):
        time.sleep(0.02)
    with open(path) as file:
        found: dict[str, Any] = json.load(file)
        return found


ADVERTISED = 6.0
"""Seconds in which whoever listens has heard each who advertises."""
LEASES_FROM = 30_000
"""The numbers from which those who ask a plan's own servers have theirs."""

SETTINGS = {
    "routers": "ip_forward",
    # An address is answered for at its own interface alone (RFC 1122 section 3.3.4.2 lets a host do either).
    "shy": "conf/all/arp_ignore",
    # What comes in by another interface than answers go out by is nobody's there (RFC 3704 section 2.2).
    "strict": "conf/all/rp_filter",
}
"""What is switched on in the namespaces that a scene lists under each name."""


class Job:
    """Scenes built side by side, asked phase by phase."""

    def __init__(self, kernel: Kernel, job: dict[str, Any], rest: str) -> None:
        self.kernel, self.job, self.rest = kernel, job, rest
        self.scenes: list[dict[str, Any]] = job["scenes"]
        self.heard: list[tuple[int, int, int | None]] = []
        self.times: dict[str, float] = {}
        self.told = 0.0
        self.pulled: set[tuple[str, str]] = set()
        self.seen: list[list[Any]] = []

    def say(self, what: str, done: int, of: int) -> None:
        """How far it is."""
        now = time.monotonic()
        if now - self.told > 0.2 or done == of:
            self.told = now
            print(f"bench: {what} {done} {of}", flush=True)

    def run(self) -> dict[str, Any]:
        began = time.monotonic()
        try:
            self.build()
            self.times["built"] = time.monotonic() - began
            reached, leased, leased6, learnt = self.reach(), self.leased(), self.leased6(), self.learnt()
            read = self.devices(self.job.get("read", []))
            if "phases" not in self.job:
                self.job.update(wait_for(self.rest))
            ears = Ears(self.kernel, [ear for scene in self.scenes for ear in scene["ears"]])
            try:
                for number, phase in enumerate(self.job["phases"]):
                    self.phase(ears, number, phase)
                passed = self.bursts(ears)
            finally:
                ears.close()
        finally:
            for scene in self.scenes:
                for space in scene["spaces"]:
                    if space in self.kernel.spaces:
                        self.kernel.drop(space)
        self.times["all"] = time.monotonic() - began
        return {
            "heard": self.heard,
            "times": self.times,
            "read": read,
            "seen": self.seen,
            "reached": reached,
            "leased": leased,
            "leased6": leased6,
            "learnt": learnt,
            "passed": passed,
        }

    def build(self) -> None:
        """Namespaces, cables, then everything inside each namespace."""
        spaces = [space for scene in self.scenes for space in scene["spaces"]]
        for number, space in enumerate(spaces):
            self.kernel.make(space)
            self.say("building", number + 1, 2 * len(spaces))
        wires = [wire for scene in self.scenes for wire in scene["wires"]]
        # ip keeps a file open for each namespace that it names, and may open a thousand.
        for at in range(0, len(wires), 400):
            self.kernel.tell("ip", wires[at : at + 400])
        for which, setting in SETTINGS.items():
            for space in (space for scene in self.scenes for space in scene.get(which, ())):
                self.kernel.enter(space)
                with open(f"/proc/sys/net/ipv4/{setting}", "w") as file:
                    file.write("1")
                self.kernel.leave()
        for space, text in ((s, t) for scene in self.scenes for s, t in scene.get("filters", {}).items()):
            self.kernel.filter(space, text)
        for number, (scene, space) in enumerate((s, p) for s in self.scenes for p in s["spaces"]):
            for tool in ("ip", "bridge", "tc"):
                self.kernel.tell(tool, scene["inside"][space][tool], space)
            self.say("building", len(spaces) + number + 1, 2 * len(spaces))
        for space, device in (pair for scene in self.scenes for pair in scene.get("proxies", ())):
            self.kernel.enter(space)
            # Who answers for others waits a while by itself, so that whoever has the address comes first.
            for path, value in ((f"conf/{device}/proxy_arp", "1"), (f"neigh/{device}/proxy_delay", "0")):
                with open(f"/proc/sys/net/ipv4/{path}", "w") as file:
                    file.write(value)
            self.kernel.leave()
        self.settle()

    def settle(self, restart: Sequence[list[str]] = ()) -> None:
        """Wait until links that came up or went down are known everywhere.

        The bridges to `restart` begin their spanning tree anew then, lest what they knew has to grow old first
        (IEEE 802.1Q clause 13.25, max age).
        """
        print("bench: settling 0 1", flush=True)
        for space, bridge in restart:
            self.kernel.link(space, bridge, up=False)
        time.sleep(self.job["settle"])
        for space, bridge in restart:
            self.kernel.link(space, bridge, up=True)
        deadline = time.monotonic() + SETTLED
        spaces = sorted({space for s in self.scenes for space, _ in s["trees"]})
        bonds = [(space, bond) for s in self.scenes for space, bond in s["lacp"]]
        while (spaces or bonds) and time.monotonic() < deadline:
            spaces = [space for space in spaces if {"listening", "learning"} & set(self.ports(space))]
            bonds = [pair for pair in bonds if not self.agreed(*pair)]
            time.sleep(0.2)
        if spaces:
            raise Failed("the spanning tree doesn't come to rest")

    def ports(self, space: str) -> list[str]:
        """The states of the bridge ports in a namespace."""
        self.kernel.enter(space)
        try:
            text = subprocess.run(["bridge", "-j", "link"], text=True, capture_output=True, check=True).stdout
        finally:
            self.kernel.leave()
        return [port.get("state", "") for port in json.loads(text or "[]")]

    def agreed(self, space: str, bond: str) -> bool:
        """Whether an LACP bond's members that have a link have found each other (IEEE 802.1AX clause 6.4)."""
        self.kernel.enter(space)
        try:
            with open(f"/proc/net/bonding/{bond}") as file:
                parts = file.read().split("Slave Interface:")
        finally:
            self.kernel.leave()
        up = [part for part in parts[1:] if "MII Status: up" in part]
        states = [re.search(r"port state: (\d+)", part) for part in up]
        # In sync, collecting and distributing.
        return all(state is not None and int(state[1]) & 0x38 == 0x38 for state in states)

    def bursts(self, ears: Ears) -> list[int]:
        """How many frames of each burst came to where they were watched; each limit stands from its own burst on."""
        counts = []
        for number, burst in enumerate(self.job.get("bursts", [])):
            space, line = burst["limit"]
            self.kernel.tell("tc", [line], space)
            frame = bytes.fromhex(burst["frame"])
            seen: list[int] = []
            for n in range(burst["count"]):
                ears.send(burst["from"], frame)
                if (n + 1) % ears.batch == 0:
                    seen += [ear for _, ear, _ in ears.drain(0)]
            seen += [ear for _, ear, _ in ears.drain(0.2)]
            ears.whole()
            counts.append(seen.count(burst["to"]))
            self.say("bursts", number + 1, len(self.job["bursts"]))
        return counts

    def reach(self) -> list[bool]:
        """Whether each ping was answered, each lease offered and each connection made, with the kernel's own stack at both ends."""
        trials = self.job.get("trials", [])
        programs = [self.server(*trial["server"]) for trial in trials if trial["what"] == "lease"]
        six = any(":" in trial.get("to", "") for trial in trials)
        with (
            self.serving(programs, self.LEASING),
            self.speaking6() if six else contextlib.nullcontext(),
            self.listeners({(space, port) for t in trials if t["what"] == "connect" for space, port in t["at"]}, six),
        ):
            asked: list[Echo | Echo6 | Discover | Connect] = []
            for number, trial in enumerate(trials):
                space, device = trial["from"]
                self.kernel.enter(space)
                try:
                    if trial["what"] == "lease":
                        asked.append(Discover(device, number))
                    elif trial["what"] == "connect":
                        asked.append(Connect(trial["to"], trial["port"]))
                    elif ":" in trial["to"]:
                        asked.append(Echo6(trial["to"], number))
                    else:
                        asked.append(Echo(device, trial["to"], number))
                finally:
                    self.kernel.leave()
            time.sleep(2 if trials else 0)
            return [a.answered() for a in asked]

    @contextlib.contextmanager
    def speaking6(self) -> Iterator[None]:
        """The plan's addresses, routes and filters of IPv6, for as long as somebody asks over it; what stacks learn from others is no affair of a plan."""
        devices = [tuple(at) for scene in self.scenes for at in scene.get("speaking6", ())]
        routers = [space for scene in self.scenes for space in scene.get("routers", ())]
        filters = [(s, text) for scene in self.scenes for s, text in scene.get("filters6", {}).items()]
        taught = ("accept_dad", "accept_ra", "accept_redirects")
        for (space, device), name in product(devices, (*taught, "disable_ipv6")):
            self.six(space, device, name, "0")
        for space, lines in ((s, lines) for scene in self.scenes for s, lines in scene.get("inside6", {}).items()):
            self.kernel.tell("ip", lines, space)
        for space in routers:
            self.six(space, "all", "forwarding", "1")
        for space, text in filters:
            self.kernel.filter(space, text, six=True)
        try:
            yield
        finally:
            for space, _ in filters:
                self.kernel.filter(space, "*filter\nCOMMIT\n", six=True)
            for space in routers:
                self.six(space, "all", "forwarding", "0")
            for (space, device), name in product(devices, ("disable_ipv6", *taught)):
                self.six(space, device, name, "1")

    @contextlib.contextmanager
    def listeners(self, wanted: set[tuple[str, int]], six: bool) -> Iterator[None]:
        """Somebody who listens at some ports, each in a namespace; of IPv6 too, if anybody asks over it."""
        families = ((socket.AF_INET, "0.0.0.0"), *([(socket.AF_INET6, "::")] if six else []))
        with contextlib.ExitStack() as held:
            for (space, port), (family, every) in product(sorted(wanted), families):
                self.kernel.enter(space)
                try:
                    listener = held.enter_context(socket.socket(family, socket.SOCK_STREAM))
                    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                    if family == socket.AF_INET6:
                        listener.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
                    listener.bind((every, port))
                    listener.listen(64)
                finally:
                    self.kernel.leave()
            yield

    def leased(self) -> list[list[list[Any]]]:
        """What each interface that asks is offered by the plan's own servers and relays."""
        job = self.job.get("leases", {"servers": [], "asks": []})
        with self.serving(job["servers"], self.LEASING):
            return self.offers(job["asks"], lambda number, device, mac: Discover(device, number, mac))

    def offers(self, asks: Iterable[Sequence[str]], ask: Callable[..., Discover | Solicit]) -> list[list[list[Any]]]:
        """What those who ask (their namespaces, and how `ask` lets them, with a number) are offered."""
        asked = []
        for number, (space, *how) in enumerate(asks, LEASES_FROM):
            self.kernel.enter(space)
            try:
                asked.append(ask(number, *how))
            finally:
                self.kernel.leave()
            # Servers put those off who all ask at once.
            time.sleep(0.02)
        time.sleep(3 if asked else 0)
        return [one.offers() for one in asked]

    def leased6(self) -> list[list[list[Any]]]:
        """The same of IPv6, which the plan's own stacks speak meanwhile."""
        job = self.job.get("leases", {"servers6": [], "asks6": []})
        if not job["asks6"]:
            return []
        with self.speaking6():
            for (space, device), name in product(job["asks6"], ("accept_dad", "accept_ra", "disable_ipv6")):
                self.six(space, device, name, "0")
            try:
                with self.serving(job["servers6"], self.LEASING6):
                    return self.offers(job["asks6"], lambda number, device: Solicit(device, number))
            finally:
                for (space, device), name in product(job["asks6"], ("disable_ipv6", "accept_ra", "accept_dad")):
                    self.six(space, device, name, "1")

    def learnt(self) -> list[list[list[str]]]:
        """What each interface that listens makes of the plan's advertisements: the prefixes of its addresses, and the next hops of its ways out."""
        job = self.job.get("adverts", {"sends": [], "listens": []})
        ends = [(space, device, "") for space, device in job["listens"]]
        ends += [(space, device, own) for space, device, own, *_ in job["sends"]]
        for space, device, own in ends:
            self.six(space, device, "accept_dad", "0")
            if own:
                self.six(space, device, "addr_gen_mode", "1")
            self.six(space, device, "disable_ipv6", "0")
            if own:
                self.kernel.tell("ip", [f"addr add {own}/64 dev {device} nodad"], space)
        try:
            with self.advertising(job["sends"]):
                time.sleep(ADVERTISED if job["listens"] else 0)
                return [self.formed(space, device) for space, device in job["listens"]]
        finally:
            for space, device, _ in ends:
                self.six(space, device, "disable_ipv6", "1")

    def six(self, space: str, device: str, name: str, value: str) -> None:
        """Set what a device does about IPv6."""
        self.kernel.enter(space)
        try:
            with open(f"/proc/sys/net/ipv6/conf/{device}/{name}", "w") as file:
                file.write(value)
        finally:
            self.kernel.leave()

    @contextlib.contextmanager
    def advertising(self, sends: Sequence[Sequence[Any]]) -> Iterator[None]:
        """A real router advertiser in each namespace, for as long as somebody listens."""
        said: dict[str, list[str]] = {}
        for space, device, _, prefixes, router in sends:
            words = "".join(f"prefix {prefix} {{ }}; " for prefix in prefixes)
            said.setdefault(space, []).append(
                f"interface {device} {{ AdvSendAdvert on; AdvRASolicitedUnicast off; MinRtrAdvInterval 3; MaxRtrAdvInterval 4; "
                f"AdvDefaultLifetime {1800 if router else 0}; {words}}};"
            )
        running: list[subprocess.Popen[bytes]] = []
        try:
            for number, (space, lines) in enumerate(said.items()):
                pathlib.Path(f"/tmp/radvd-{number}.conf").write_text("\n".join(lines))
                self.kernel.enter(space)
                try:
                    config = (f"--config=/tmp/radvd-{number}.conf", f"--pidfile=/tmp/radvd-{number}.pid")
                    command = ("radvd", "--nodaemon", "--logmethod=stderr", *config)
                    running.append(subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
                finally:
                    self.kernel.leave()
            yield
        finally:
            for process in running:
                process.kill()
                process.wait()

    def formed(self, space: str, device: str) -> list[list[str]]:
        """The prefixes of a device's addresses that it formed, and the next hops of its ways out."""
        self.kernel.enter(space)
        try:
            told = [
                json.loads(
                    subprocess.run(["ip", "-6", "-json", *words, "dev", device], capture_output=True).stdout or "[]"
                )
                for words in (("addr", "show"), ("route", "show", "default"))
            ]
        finally:
            self.kernel.leave()
        own = [one for link in told[0] for one in link.get("addr_info", ()) if one.get("dynamic")]
        nets = {str(ipaddress.ip_interface(f"{one['local']}/{one['prefixlen']}").network) for one in own}
        hops = {hop["gateway"] for route in told[1] for hop in route.get("nexthops", [route]) if "gateway" in hop}
        return [sorted(nets), sorted(hops)]

    @contextlib.contextmanager
    def serving(self, programs: Sequence[tuple[str, Sequence[str]]], at: tuple[str, str]) -> Iterator[None]:
        """Real DHCP servers and relays, each in a namespace with words of its own, for as long as they are asked; `at`: where the kernel tells who listens, and at which port."""
        processes: list[subprocess.Popen[bytes]] = []
        try:
            processes += (self.started(space, words) for space, words in programs)
            self.listening([space for space, _ in programs], *at)
            yield
        finally:
            for process in processes:
                process.kill()
                process.wait()

    LEASING, LEASING6 = ("udp", ":0043 "), ("udp6", ":0223 ")

    def listening(self, spaces: list[str], table: str, port: str) -> None:
        """Wait until a server of leases listens in each of some namespaces; a busy machine may take its time."""
        deadline = time.monotonic() + SETTLED
        for space in set(spaces):
            self.kernel.enter(space)
            try:
                while pathlib.Path(f"/proc/thread-self/net/{table}").read_text().count(port) < spaces.count(space):
                    if time.monotonic() > deadline:
                        raise Failed(f"the DHCP server in {space} doesn’t listen")
                    time.sleep(0.05)
            finally:
                self.kernel.leave()

    @staticmethod
    def server(space: str, device: str, first: str, last: str, mask: str) -> tuple[str, Sequence[str]]:
        """A DHCP server on one interface of a namespace."""
        only = (f"--interface={device}", "--bind-interfaces", "--except-interface=lo")
        return space, (*only, f"--dhcp-range={first},{last},{mask},2m")

    def started(self, space: str, words: Iterable[str]) -> subprocess.Popen[bytes]:
        """A real DHCP server or relay in a namespace."""
        self.kernel.enter(space)
        try:
            return subprocess.Popen(
                [
                    *("dnsmasq", "--no-daemon", "--port=0", "--conf-file=/dev/null", "--leasefile-ro", "--no-ping"),
                    *("--user=root", "--group=root", "--pid-file=", "--dhcp-authoritative", *words),
                ],
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
        finally:
            self.kernel.leave()

    def phase(self, ears: Ears, number: int, phase: dict[str, Any]) -> None:
        """Put back what the phase before pulled, pull this one's cables, choose members, ask."""
        down = {(space, device) for space, device in phase.get("down", [])}
        # A bond takes a choice only while that member has a link.
        for space, bond, member in phase.get("choose", []):
            self.kernel.set(space, bond, "bonding/active_slave", member)
        for end in sorted(self.pulled - down):
            self.kernel.link(*end, up=True)
        for end in sorted(down - self.pulled):
            self.kernel.link(*end, up=False)
        self.pulled = down
        if number:
            for scene in self.scenes:
                for space, bridge in scene["bridges"]:
                    self.kernel.set(space, bridge, "bridge/flush", "1")
            self.settle(phase["restart"])
        taps = self.listen() if phase.get("listen") else {}
        began = time.monotonic()
        asks = phase["asks"]
        for n, (ear, frame) in enumerate(asks):
            ears.send(ear, bytes.fromhex(frame))
            if (n + 1) % ears.batch == 0:
                self.heard.extend(ears.drain(0))
                self.say("asking", n + 1, len(asks))
        self.heard.extend(ears.drain(0.25))
        ears.whole()
        self.seen += [frame for space, sock in taps.items() for frame in self.taken(space, sock)]
        self.times["asked"] = self.times.get("asked", 0.0) + time.monotonic() - began
        self.say("situation", number + 1, len(self.job["phases"]))

    def listen(self) -> dict[str, socket.socket]:
        """A socket at every device of every namespace."""
        taps = {}
        for space in (space for scene in self.scenes for space in scene["spaces"]):
            self.kernel.enter(space)
            taps[space] = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ALL_PROTOCOLS))
            self.kernel.leave()
            taps[space].setsockopt(SOL_PACKET, AUXDATA, 1)
            taps[space].setblocking(False)
        return taps

    def taken(self, space: str, sock: socket.socket) -> list[list[Any]]:
        """What a socket took of the bench's own frames: namespace, device, whether it left there, time, frame with its tag."""
        found: list[list[Any]] = []
        with sock:
            while True:
                try:
                    data, extra, _, (device, _, kind, *_) = sock.recvmsg(2048, 64)
                except BlockingIOError:
                    return found
                if MARK not in data[:140]:
                    continue
                for _, what, body in extra:
                    status, *_, tci, _ = struct.unpack("IIIHHHH", body)
                    if what == AUXDATA and status & VLAN_VALID:
                        data = data[:12] + b"\x81\x00" + struct.pack("!H", tci) + data[12:]
                found.append([space, device, kind == socket.PACKET_OUTGOING, time.time(), data.hex()])

    def devices(self, wanted: list[list[Any]]) -> list[dict[str, Any]]:
        """The state of devices as an administrator would save it, and the LLDP frames that arrive at their ports.

        `wanted`: (namespace, name, whether it runs an LLDP daemon, ports at whose far end one runs). Each of these ports is waited
        for, as long as another is heard for the first time within `LLDP_PATIENCE` seconds: one that is down hears nothing.
        """
        daemons: list[subprocess.Popen[bytes]] = []
        socks: dict[tuple[str, str], socket.socket] = {}
        if wanted:
            os.makedirs("/run/lldpd", exist_ok=True)
        try:
            for space, _, _, ports in wanted:
                self.kernel.enter(space)
                for port in ports:
                    sock = socks[space, port] = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(LLDP))
                    sock.bind((port, LLDP))
                    sock.setblocking(False)
                self.kernel.leave()
            for space, name, speaks, _ in wanted:
                if speaks:
                    daemons.append(self.daemon(space, name))
            deadline = time.monotonic() + LLDP_PATIENCE
            frames: dict[tuple[str, str], list[list[Any]]] = {}
            while time.monotonic() < deadline and len(frames) < len(socks):
                for key, sock in socks.items():
                    try:
                        data, (*_, kind, _, _) = sock.recvfrom(2048)
                    except BlockingIOError:
                        continue
                    if kind != socket.PACKET_OUTGOING:
                        if key not in frames:
                            deadline = time.monotonic() + LLDP_PATIENCE
                        frames.setdefault(key, []).append([time.time(), data.hex()])
                time.sleep(0.05)
        finally:
            for daemon in daemons:
                daemon.terminate()
                daemon.wait()
            for sock in socks.values():
                sock.close()
        made = []
        for number, (space, name, _, ports) in enumerate(wanted):
            self.say("reading", number + 1, len(wanted))
            heard = {port: frames[space, port] for port in ports if (space, port) in frames}
            made.append({"name": name, "files": self.read(space), "lldp": heard})
        return made

    def daemon(self, space: str, name: str) -> subprocess.Popen[bytes]:
        """A real LLDP daemon in a namespace, which calls its device by a name of its own."""

        def alone() -> None:
            LIBC.unshare(NEW_UTS)
            socket.sethostname(name)

        self.kernel.enter(space)
        try:
            return subprocess.Popen(
                ["lldpd", "-d", "-u", f"/run/lldpd/{space}.socket"],
                preexec_fn=alone,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
        finally:
            self.kernel.leave()

    def read(self, space: str) -> dict[str, str]:
        """The state of a namespace as an administrator would save it."""
        self.kernel.enter(space)
        try:
            return {
                name: subprocess.run(line.split(), text=True, capture_output=True, check=True).stdout
                for name, line in (
                    ("ip-link.json", "ip -details -json link show"),
                    ("ip-addr.json", "ip -details -json addr show"),
                    ("bridge-vlan.json", "bridge -json vlan show"),
                    ("bridge-link.json", "bridge -details -json link show"),
                    ("bridge-fdb.json", "bridge -json fdb show"),
                )
            }
        finally:
            self.kernel.leave()


def main(folder: str) -> None:
    """Take one job after the other until told to stop."""
    os.environ["PATH"] = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
    if LIBC.mount(b"dev", b"/dev", b"devtmpfs", 0, None) == 0 or os.path.exists("/dev/console"):
        # The kernel had no console to give, since its folder holds no devices.
        console = os.open("/dev/console", os.O_RDWR)
        for own in (0, 1, 2):
            os.dup2(console, own)
    for line in (
        "mount -t proc proc /proc",
        "mount -t sysfs sys /sys",
        "mount -t tmpfs tmp /tmp",
        "mount -t tmpfs run /run",
        "mkdir -p /tmp/m/lib /tmp/work /run/netns /run/sys",
        "ln -s /usr/lib/uml/modules /tmp/m/lib/modules",
        "modprobe -d /tmp/m ipv6 disable_ipv6=1",
        f"modprobe -d /tmp/m -a {MODULES}",
        # A broadcast to a thousand ports waits in one queue.
        "echo 1000000 > /proc/sys/net/core/netdev_max_backlog",
    ):
        sh(line)
    sh(f"mount -t hostfs jobs /tmp/work -o {folder}")
    kernel = Kernel()
    print("bench: ready", flush=True)
    number = 0
    while True:
        path = f"/tmp/work/job-{number}.json"
        while not os.path.exists(path):
            if os.path.exists("/tmp/work/stop"):
                return
            time.sleep(0.02)
        try:
            answer = Job(kernel, wait_for(path), f"/tmp/work/asks-{number}.json").run()
        except Failed as error:
            answer = {"failed": str(error)}
        with open(f"/tmp/work/answer-{number}.part", "w") as file:
            json.dump(answer, file)
        os.rename(f"/tmp/work/answer-{number}.part", f"/tmp/work/answer-{number}.json")
        print(f"bench: done {number} {number}", flush=True)
        number += 1


if __name__ == "__main__":
    try:
        main(sys.argv[1])
    except BaseException as error:
        # Whatever it is, the kernel must not stay behind without its first process.
        print(f"bench: died {type(error).__name__}: {error}", flush=True)
    finally:
        with open("/proc/sysrq-trigger", "w") as file:
            file.write("o")
        time.sleep(5)
