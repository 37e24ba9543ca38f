"""Which NIC of a host is which of a pattern's."""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass

from aptwire.plan import vids
from aptwire.plan.kinds import FabricPort, Nic, PatternNic
from aptwire.plan.names import called, natural, some
from aptwire.plan.plan import Plan
from aptwire.plan.ports import carries, far_end


@dataclass(frozen=True)
class Question:
    """A NIC of a pattern that isn't clear on a host: `fits` are the NICs (ids) that it may be, none where nothing fits."""

    host: str
    part: str
    fits: tuple[str, ...]
    text: str


def in_order(nics: list[Nic]) -> list[Nic]:
    """NICs in the order of their names, numbers in them by value."""
    return sorted(nics, key=lambda nic: natural(nic.name))


def fitting(plan: Plan, part: PatternNic, host: str, taken: Container[str] = ()) -> list[Nic]:
    """The NICs of a host of which everything holds that a pattern says of one, in the order of their names, without those taken already."""
    named = part.named or ("" if part.speed or part.carried or part.place else part.name)
    wanted = vids.members(part.carried or "")
    return in_order(
        [
            nic
            for nic in plan.where("nic", "host", host)
            if nic.id not in taken
            and (not named or nic.name == named)
            and part.speed in (None, nic.speed)
            and (not wanted or wanted <= _carried(plan, nic))
        ]
    )


def _carried(plan: Plan, nic: Nic) -> frozenset[int]:
    """The VIDs that the fabric port carries into which a NIC is plugged."""
    port = far_end(plan, nic.id)
    return carries(port) if isinstance(port, FabricPort) else frozenset()


def chosen(plan: Plan, part: PatternNic, host: str, taken: Container[str]) -> Nic | Question:
    """The NIC of a host that is a pattern's, or what has to be asked."""
    fits = fitting(plan, part, host, taken)
    if part.place is not None and len(fits) >= part.place:
        return fits[part.place - 1]
    if part.place is None and len(fits) == 1:
        return fits[0]
    where = called(plan, plan.get("host", host))
    if not fits:
        return Question(host, part.id, (), f"no NIC of {where} is {_asked(part)}")
    names = some(nic.name for nic in fits)
    text = (
        f"{names} of {where} may be {part.name}"
        if part.place is None
        else f"{where} has only {names} for {_asked(part)}"
    )
    return Question(host, part.id, tuple(nic.id for nic in fits), text)


def _asked(part: PatternNic) -> str:
    said = [f"named {part.named}"] if part.named else []
    said += [f"of {part.speed} Mbit/s"] if part.speed else []
    said += [f"plugged into what carries {part.carried}"] if part.carried else []
    how = " and ".join(said) or ("in the order of names" if part.place else f"named {part.name}")
    return (
        f"{part.name} (number {part.place} {'of those ' * bool(said)}{how})" if part.place else f"{part.name} ({how})"
    )
