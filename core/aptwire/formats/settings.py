"""What a Linux host answers and forwards for its addresses: the output of `sysctl net.ipv4 net.ipv6`.

The meaning of each is that of the kernel's documentation (networking/ip-sysctl).  A setting of an interface holds beside that of `all`, and
the higher number counts.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from aptwire.plan.plan import PlanError, Problem

SYSCTL = "sysctl.txt"
_LINE = re.compile(r"\s*([^\s=]+)\s*=\s*(.*?)\s*")
ONLY_ITS_OWN, NEVER = (1, 2), 8
"""Values of arp_ignore: an interface answers for addresses of its own alone, or for none at all."""


@dataclass(frozen=True)
class Settings:
    """Settings by their dotted name, an interface's dots written as slashes, as sysctl does."""

    values: dict[str, str] = field(default_factory=dict)

    def number(self, family: str, interface: str, name: str) -> int | None:
        """The number that holds for an interface, None where neither its own nor that of all was given."""
        own = (self.values.get(f"net.{family}.conf.{key}.{name}") for key in ("all", interface.replace(".", "/")))
        found = [int(value) for value in own if value is not None and value.isascii() and value.isdigit()]
        return max(found) if found else None

    def silent(self, interface: str, link_local: bool) -> bool:
        """Whether a host is known not to answer on an interface for addresses that it has elsewhere.

        ARP must be told to answer for the interface's own alone, and IPv6 be off there or (`link_local` false) without an address.
        """
        arp = self.number("ipv4", interface, "arp_ignore")
        quiet = arp is not None and (arp in ONLY_ITS_OWN or arp == NEVER)
        off = self.values.get(f"net.ipv6.conf.{interface.replace('.', '/')}.disable_ipv6") == "1"
        return quiet and (off or not link_local)

    def forwards(self) -> list[str]:
        """The IP versions that the host forwards between its interfaces, as people write them."""
        found = []
        if self.values.get("net.ipv4.ip_forward") == "1" or self._any("ipv4"):
            found.append("IPv4")
        if self._any("ipv6"):
            found.append("IPv6")
        return found

    def answers_for_others(self, interface: str) -> bool:
        """Whether a host answers ARP on an interface for what it forwards elsewhere (proxy ARP, RFC 1027); it does so only where it forwards."""
        return bool(self.number("ipv4", interface, "proxy_arp")) and "IPv4" in self.forwards()

    def _any(self, family: str) -> bool:
        head = f"net.{family}.conf."
        return any(n.startswith(head) and n.endswith(".forwarding") and v == "1" for n, v in self.values.items())


def read_settings(raw: bytes, place: str) -> Settings:
    """Settings from lines `name = value`; PlanError names the line that is none."""
    try:
        lines = raw.decode().splitlines()
    except UnicodeDecodeError as error:
        raise PlanError([Problem(f"isn't UTF-8 text: byte {error.start} can't be read", place=place)]) from None
    values: dict[str, str] = {}
    for number, line in enumerate(lines, 1):
        found = _LINE.fullmatch(line)
        if found is not None:
            values[found[1]] = found[2]
        # sysctl says of some keys that only root may read them, on lines of their own.
        elif line.strip() and not line.startswith(("#", ";", "sysctl:")):
            raise PlanError(
                [Problem(f"“{line.strip()[:60]}” isn't a setting and its value", place=f"{place}: line {number}")]
            )
    return Settings(values)
