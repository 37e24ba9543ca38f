"""What a record's field may hold: its check, its JSON Schema and its default, said once.

A spec turns a JSON value into the value kept in the record (`take`, ValueError when it can't) and says the
same in JSON Schema (`schema`).  The server builds its columns from the same specs.
"""

from __future__ import annotations

import dataclasses
import datetime
import ipaddress
import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from aptwire.plan import cores, vids
from aptwire.plan.ids import ID_PATTERN, is_id

MAC_PATTERN = r"^[0-9A-Fa-f]{2}([:-][0-9A-Fa-f]{2}){5}$|^[0-9A-Fa-f]{4}(\.[0-9A-Fa-f]{4}){2}$|^[0-9A-Fa-f]{12}$"
"""Pairs of digits apart at colons or hyphens, fours apart at dots, or all twelve in a row."""
MOST_LISTED, MOST_KEPT = 64, 1_000
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")


@dataclass(frozen=True)
class Spec:
    """One field.  `kind` is text, number, flag, choice, vid, vids, processors, cores, ref, mac, ip, subnet, date or a list of addresses, subnets, ips, ranges,
    words, or of addresses kept for somebody."""

    kind: str
    optional: bool = False
    default: Any = None
    low: int = 0
    high: int = 0
    options: tuple[str, ...] = ()
    refs: tuple[str, ...] = ()
    untagged: bool = False
    help: str = ""

    def take(self, value: Any) -> Any:
        """The value as a record keeps it; ValueError names what is wrong with it."""
        return self.taking()(value)

    def taking(self) -> Callable[[Any], Any]:
        """What takes a value, for whoever has many."""
        take: Callable[[Any], Any] = getattr(self, f"_take_{self.kind}")
        optional = self.optional

        def taken(value: Any) -> Any:
            if value is not None:
                return take(value)
            if optional:
                return None
            raise ValueError("a value is needed")

        return taken

    def _take_text(self, value: Any) -> str:
        if not isinstance(value, str):
            raise ValueError(f"text is needed, not {_shape(value)}")
        text = value.strip()
        if not text and not self.optional and self.low:
            raise ValueError("a text that isn't empty is needed")
        if len(text) > self.high:
            raise ValueError(f"the text is {len(text)} characters long; {self.high} is the most")
        if _CONTROL.search(text):
            raise ValueError("the text holds control characters")
        return text

    def _take_number(self, value: Any) -> int:
        if isinstance(value, bool) or not isinstance(value, int):
            raise ValueError(f"a whole number is needed, not {_shape(value)}")
        if not self.low <= value <= self.high:
            raise ValueError(f"{value} is outside {self.low} to {self.high}")
        return value

    def _take_flag(self, value: Any) -> bool:
        if not isinstance(value, bool):
            raise ValueError(f"true or false is needed, not {_shape(value)}")
        return value

    def _take_choice(self, value: Any) -> str:
        if not isinstance(value, str) or value not in self.options:
            raise ValueError(f"“{value}” is none of {', '.join(self.options)}")
        return str(value)

    def _take_vid(self, value: Any) -> int:
        if isinstance(value, bool) or not isinstance(value, int):
            raise ValueError(f"a VID is a whole number, not {_shape(value)}")
        return vids.check_vid(value, 0 if self.untagged else vids.LOWEST)

    def _take_vids(self, value: Any) -> str:
        return vids.canonical(_written(value, "VIDs", "110, 200-219"), self.untagged)

    def _take_processors(self, value: Any) -> str:
        return cores.write(cores.processors(_written(value, "processors", "2-5, 18")))

    def _take_cores(self, value: Any) -> str:
        return cores.write_cores(cores.cores(_written(value, "cores", "0+16, 1+17")))

    def _take_ref(self, value: Any) -> str:
        if not is_id(value):
            article = "an" if self.refs[0][0] in "aeiou" else "a"
            raise ValueError(f"the id of {article} {' or '.join(self.refs)} is needed, not {_shape(value)}")
        return value

    def _take_mac(self, value: Any) -> str:
        digits = value.strip().lower() if isinstance(value, str) else ""
        if not re.match(MAC_PATTERN, digits):
            raise ValueError(f"“{value}” is no MAC address such as 02:00:5e:10:00:01")
        text = ":".join(re.findall("..", re.sub("[:.-]", "", digits)))
        if int(text[:2], 16) & 1:
            raise ValueError(f"{text} is a group address, which nobody bears (IEEE 802 clause 8.2.2)")
        return text

    def _take_ip(self, value: Any) -> str:
        if not isinstance(value, str):
            raise ValueError(f"an IP address is needed, not {_shape(value)}")
        return _ip(value.strip())

    def _take_subnet(self, value: Any) -> str:
        if not isinstance(value, str):
            raise ValueError(f"a subnet is needed, not {_shape(value)}")
        return _subnet(value.strip())

    def _take_date(self, value: Any) -> str:
        if not isinstance(value, str):
            raise ValueError(f"a date is needed, not {_shape(value)}")
        try:
            return datetime.date.fromisoformat(value.strip()).isoformat()
        except ValueError:
            raise ValueError(f"“{value[:40]}” is no date such as 2027-03-31") from None

    def _take_addresses(self, value: Any) -> tuple[str, ...]:
        return _each(value, _interface)

    def _take_subnets(self, value: Any) -> tuple[str, ...]:
        return _each(value, _subnet)

    def _take_ips(self, value: Any) -> tuple[str, ...]:
        return _each(value, _ip)

    def _take_ranges(self, value: Any) -> tuple[str, ...]:
        return _each(value, lambda text: _range(text)[0])

    def _take_purposes(self, value: Any) -> tuple[str, ...]:
        return _each(value, lambda text: " ".join(_purpose(text)))

    def _take_kept(self, value: Any) -> tuple[str, ...]:
        return _each(value, _kept, MOST_KEPT)

    def _take_words(self, value: Any) -> tuple[str, ...]:
        word = Spec("text", high=40, low=1)
        return _each(value, word.take)

    def schema(self) -> dict[str, Any]:
        """The JSON Schema (2020-12) of the field."""
        made: dict[str, Any]
        if self.kind == "text":
            made = {"type": "string", "minLength": self.low, "maxLength": self.high}
        elif self.kind == "number":
            made = {"type": "integer", "minimum": self.low, "maximum": self.high}
        elif self.kind == "flag":
            made = {"type": "boolean"}
        elif self.kind == "choice":
            made = {"enum": list(self.options)}
        elif self.kind == "vid":
            made = {"type": "integer", "minimum": 0 if self.untagged else vids.LOWEST, "maximum": vids.HIGHEST}
        elif self.kind == "vids":
            made = {"type": "string", "pattern": r"^[0-9 ,-]*$", "maxLength": 20000}
        elif self.kind in ("processors", "cores"):
            made = {"type": "string", "pattern": r"^[0-9 ,+-]*$", "maxLength": 20000}
        elif self.kind == "ref":
            made = {"type": "string", "pattern": ID_PATTERN}
        elif self.kind == "mac":
            made = {"type": "string", "pattern": MAC_PATTERN}
        elif self.kind == "date":
            made = {"type": "string", "format": "date"}
        elif self.kind in ("ip", "subnet"):
            made = {"type": "string", "maxLength": 45}
        else:
            most = MOST_KEPT if self.kind == "kept" else MOST_LISTED
            made = {"type": "array", "items": {"type": "string", "maxLength": 95}, "maxItems": most}
        if self.optional:
            made = (
                {"enum": [*self.options, None]} if self.kind == "choice" else {**made, "type": [made["type"], "null"]}
            )
        if self.default not in (None, (), ""):
            made["default"] = plain(self.default)
        if self.help:
            made["description"] = self.help
        return made


def plain(value: Any) -> Any:
    """A record's value as JSON has it: lists for tuples."""
    return list(value) if isinstance(value, tuple) else value


def bare_address(text: str) -> str:
    """An address without its prefix length."""
    return text.split("/", 1)[0]


Range = tuple[int, int, int]
"""A range of addresses in numbers: their IP version, the first and the last."""


@lru_cache(4096)
def range_of(text: str) -> Range:
    """A range of addresses, as records keep it, in numbers."""
    return _range(text)[1]


def range_text(first: int, last: int, version: int = 4) -> str:
    """A range of addresses in numbers as records keep it."""
    made = ipaddress.IPv4Address if version == 4 else ipaddress.IPv6Address
    low, high = made(first), made(last)
    return str(low) if first == last else f"{low}-{high}"


PURPOSES = ("static", "leases", "reserved")
"""What a range of addresses may be for: to be given to interfaces for their own, to be leased, to be nobody's."""


def purpose_of(text: str) -> tuple[str, Range]:
    """What a range of addresses is for (one of PURPOSES), and itself, as records keep the two."""
    purpose, _, addresses = text.partition(" ")
    return purpose, range_of(addresses)


Numbers = tuple[int, int, int, int]
"""An address in numbers: its IP version, itself, its subnet's first address and prefix length."""


def numbers(text: str) -> Numbers:
    """An address with prefix length, as records keep it, in numbers; quicker than the library's for very many."""
    if ":" in text:
        found = ipaddress.ip_interface(text)
        return 6, int(found.ip), int(found.network.network_address), found.network.prefixlen
    address, _, length = text.partition("/")
    a, b, c, d = address.split(".")
    number, rest = int(a) << 24 | int(b) << 16 | int(c) << 8 | int(d), 32 - int(length)
    return 4, number, number >> rest << rest, 32 - rest


def end_of(version: int, net: int, length: int) -> int:
    """The number of the address behind a subnet's last one."""
    return net + (1 << (32 if version == 4 else 128) - length)


def is_nobodys(
    address: ipaddress.IPv4Address | ipaddress.IPv6Address, net: ipaddress.IPv4Network | ipaddress.IPv6Network
) -> bool:
    """Whether an address is a subnet's own, or that of all in it (RFC 1122 section 3.2.1.3)."""
    return net.version == 4 and net.prefixlen < 31 and address in (net.network_address, net.broadcast_address)


def _ip(text: str) -> str:
    try:
        return str(ipaddress.ip_address(text))
    except ValueError:
        raise ValueError(f"“{text[:60]}” is no IP address such as 10.64.110.1 or 2001:db8::1") from None


def _interface(text: str) -> str:
    try:
        return str(ipaddress.ip_interface(text))
    except ValueError:
        raise ValueError(f"“{text[:60]}” is no address with its prefix length, such as 10.64.110.11/24") from None


def _subnet(text: str) -> str:
    try:
        return str(ipaddress.ip_network(text))
    except ValueError:
        pass
    try:
        meant = ipaddress.ip_network(text, strict=False)
    except ValueError:
        raise ValueError(f"“{text[:60]}” is no subnet such as 10.64.110.0/24") from None
    raise ValueError(f"“{text[:60]}” is an address within a subnet; the subnet is {meant}")


def _range(text: str) -> tuple[str, Range]:
    """A range of addresses as records keep it, and in numbers."""
    low, dash, high = (part.strip() for part in text.partition("-"))
    first = ipaddress.ip_address(_ip(low))
    last = ipaddress.ip_address(_ip(high)) if dash else first
    if first.version != last.version or first > last:  # type: ignore[operator]
        raise ValueError(f"“{text[:80]}” is no range of addresses such as 10.65.10.100-10.65.10.199")
    return (str(first) if first == last else f"{first}-{last}"), (first.version, int(first), int(last))


def _purpose(text: str) -> tuple[str, str]:
    """The purpose of a range of addresses, and the range, as records keep them."""
    purpose, _, addresses = text.partition(" ")
    if purpose.lower() not in PURPOSES or not addresses.strip():
        raise ValueError(
            f"“{text[:80]}” is no range with a purpose, such as static 10.65.10.10-10.65.10.99, leases … or reserved …"
        )
    return purpose.lower(), _range(addresses.strip())[0]


def _kept(text: str) -> str:
    mac, _, address = text.strip().partition(" ")
    return f"{Spec('mac').take(mac)} {_ip(address.strip())}"


def _each(value: Any, take: Any, most: int = MOST_LISTED) -> tuple[str, ...]:
    if not isinstance(value, (list, tuple)):
        raise ValueError(f"a list is needed, not {_shape(value)}")
    if len(value) > most:
        raise ValueError(f"the list holds {len(value)} entries; {most} is the most")
    taken = []
    for item in value:
        if not isinstance(item, str):
            raise ValueError(f"the list holds {_shape(item)} where text is needed")
        taken.append(take(item.strip()))
    return tuple(dict.fromkeys(taken))


def _written(value: Any, what: str, example: str) -> str:
    """A list that is written as one text."""
    if not isinstance(value, str):
        raise ValueError(f"{what} are written as text such as “{example}”, not {_shape(value)}")
    if len(value) > 20_000:
        raise ValueError(f"the list of {what} is over 20,000 characters long")
    return value


def _shape(value: Any) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return "true or false"
    if isinstance(value, (int, float)):
        return "a number"
    if isinstance(value, str):
        return f"“{value[:40]}”"
    return "a list" if isinstance(value, (list, tuple)) else "an object"


def _field(spec: Spec, required: bool) -> Any:
    if required:
        return dataclasses.field(metadata={"spec": spec})
    return dataclasses.field(default=spec.default, metadata={"spec": spec})


def name(help: str = "", high: int = 80) -> Any:
    """A name that people read, or what else must be said: 1 to 80 characters unless said."""
    return _field(Spec("text", low=1, high=high, help=help), True)


def text(high: int = 200, help: str = "") -> Any:
    """Free text, empty unless said."""
    return _field(Spec("text", default="", high=high, help=help), False)


def number(low: int, high: int, default: int | None = None, help: str = "") -> Any:
    """A whole number within bounds; absent unless a default is given."""
    return _field(Spec("number", optional=default is None, default=default, low=low, high=high, help=help), False)


def flag(default: bool, help: str = "") -> Any:
    """True or false."""
    return _field(Spec("flag", default=default, help=help), False)


def maybe(help: str = "") -> Any:
    """True, false, or nothing said."""
    return _field(Spec("flag", optional=True, help=help), False)


def ip(help: str = "", required: bool = False) -> Any:
    """An IP address, or nothing where it isn't required."""
    return _field(Spec("ip", optional=not required, help=help), required)


def subnet(help: str = "") -> Any:
    """A subnet; it must be said."""
    return _field(Spec("subnet", help=help), True)


def choice(*options: str, default: str | None = None, optional: bool = False, help: str = "") -> Any:
    """One of a few words; required when neither a default nor `optional` is given."""
    spec = Spec("choice", options=options, default=default, optional=optional, help=help)
    return _field(spec, default is None and not optional)


def vid(help: str = "", untagged: bool = False) -> Any:
    """A VID or nothing."""
    return _field(Spec("vid", optional=True, untagged=untagged, help=help), False)


def vid_set(default: str | None = None, untagged: bool = False, required: bool = False, help: str = "") -> Any:
    """A set of VIDs as text; absent means what the field's help says."""
    spec = Spec("vids", optional=default is None and not required, default=default, untagged=untagged, help=help)
    return _field(spec, required)


def processors(help: str = "") -> Any:
    """A set of processors as text, or nothing."""
    return _field(Spec("processors", optional=True, help=help), required=False)


def cores_listed(help: str = "") -> Any:
    """Cores with their threads as text; none unless said."""
    return _field(Spec("cores", default="", help=help), required=False)


def ref(*kinds: str, optional: bool = False, help: str = "") -> Any:
    """The id of a record of one of the kinds."""
    return _field(Spec("ref", optional=optional, refs=kinds, help=help), not optional)


def mac(help: str = "") -> Any:
    """A MAC address or nothing."""
    return _field(Spec("mac", optional=True, help=help), False)


def date(help: str = "") -> Any:
    """A day of the calendar (ISO 8601) or nothing."""
    return _field(Spec("date", optional=True, help=help), False)


def listed(kind: str, help: str = "") -> Any:
    """A list of addresses (with prefix length), subnets, ips, ranges, kept addresses or words; empty unless said."""
    return _field(Spec(kind, default=(), help=help), False)
