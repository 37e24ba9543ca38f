"""What load is for people and programs: directions and failures in words, the table of cables and that of flows."""

from __future__ import annotations

from collections.abc import Container, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from aptwire.plan.kinds import Flow
from aptwire.plan.names import natural, some
from aptwire.stress.courses import Failure, OneWay, host_of_way
from aptwire.stress.flows import Unsent
from aptwire.stress.load import NOTHING, Load

MOST_REASONS = 5
NEAR = 0.8
"""From which share of what it carries on a cable counts as nearly full."""


def way_called(load: Load, way: OneWay) -> str:
    """A direction of a cable in words: nic0 of gannet → port p1 of quay-a."""
    far = load.wiring.far.get(way.port, ("", ""))[0]
    own = load.name(way.port)
    if far:
        return f"{own} → {load.name(far)}"
    stations = some(
        dict.fromkeys(load.name(port.station) for port in load.plan.where("station_port", "port", way.port))
    )
    other = stations or "what is behind it"
    return f"{own} → {other}" if way.sends else f"{other} → {own}"


def failing(load: Load, failure: Failure) -> str:
    """Something that fails, in words."""
    if failure.kind == "card":
        return f"card {failure.card} of {load.name(failure.id)}"
    if failure.kind == "lag":
        joint = load.wiring.fabric.joints[failure.id]
        return f"the LAG of {len(joint.cables)} cables from {' to '.join(load.name(end) for end in joint.ends)}"
    return load.name(failure.id)


@dataclass(frozen=True)
class Scene:
    """What is asked for and got after a failure, or while one burst lasts (the number of its demand): float64[directions] Mbit/s asked for, and that get through; float64[demands] the same."""

    asked: np.ndarray
    carried: np.ndarray
    rates: np.ndarray
    got: np.ndarray


def scene(load: Load, failure: Failure | None = None, burst: int | None = None) -> Scene:
    """The load as it is, after a failure, or while a burst lasts."""
    got = load.got(failure, burst)
    rates = load.steady.copy()
    if burst is not None:
        rates[burst] = load.rates[burst]
    who, at, share = load.entries.who, load.entries.at, load.entries.share
    if failure is not None:
        who, at, share, rates = load.after_failure(failure, rates)
    asked, carried = (np.bincount(at, weights=share * values[who], minlength=len(load.ways)) for values in (rates, got))
    return Scene(asked, np.minimum(carried, load.speeds), rates, got)


def told(
    load: Load,
    failure: Failure | None = None,
    burst: int | None = None,
    cables: str = "",
    flows: str = "",
    most: int | None = None,
) -> dict[str, Any]:
    """A plan's load for a program: the directions of cables, the fullest first, and flows with what they get; as it is, or in a scene.

    `cables`, `flows`: words that their names hold; `most`: as many of each are told (None: all), beside how many there are, and how many directions are over full, or nearly.
    """
    played = scene(load, failure, burst)
    whole = load.speeds[: len(load.ways)]
    full = np.where(np.isfinite(whole), played.asked / whole, -1.0)
    used = np.maximum(np.maximum(load.most, load.burst), load.after[0]) > NOTHING
    if failure is not None or burst is not None:
        used = played.asked > NOTHING
    order = [n for n in np.argsort(-full, kind="stable").tolist() if used[n]]
    words = cables.lower().split()
    if words:
        order = [n for n in order if _holds(way_called(load, load.ways[n]), words)]
    by_flow: dict[str, list[Unsent]] = {}
    for one in load.unsent:
        by_flow.setdefault(one.flow, []).append(one)
    wanted = flows.lower().split()
    named = sorted((f for f in load.plan.all(Flow) if _holds(f.name, wanted)), key=lambda f: natural(f.name))
    return {
        "cables": len(order),
        "over": sum(bool(full[n] > 1 + NOTHING) for n in order),
        "near": sum(bool(NEAR < full[n] <= 1 + NOTHING) for n in order),
        "directions": [_direction_told(load, n, played) for n in order[:most]],
        "sent": len(named),
        "flows": [_flow_told(load, flow, played, by_flow.get(flow.id, ())) for flow in named[:most]],
    }


def _holds(name: str, words: Sequence[str]) -> bool:
    text = name.lower()
    return all(word in text for word in words)


def _direction_told(load: Load, n: int, played: Scene) -> dict[str, Any]:
    direction = load.direction(n)
    far, cable = load.wiring.far.get(direction.way.port, ("", ""))
    return {
        "port": direction.way.port,
        "out": direction.way.sends,
        "cable": cable,
        "name": way_called(load, direction.way),
        "ends": [direction.way.port, *([far] if far else [])],
        "speed": direction.speed,
        "asked": round(float(played.asked[n]), 3),
        "carried": round(float(played.carried[n]), 3),
        "most": round(direction.most, 3),
        "burst": round(direction.burst, 3),
        "after": round(direction.after, 3),
        "failure": key_of(direction.failure) if direction.failure is not None else "",
        "fails": failing(load, direction.failure) if direction.failure is not None else "",
    }


def widths(load: Load, hosts: Container[str]) -> list[dict[str, Any]]:
    """How full cables are, the fuller direction of each: those of NICs of some hosts (ids), and all between switches and of stations."""
    best: dict[frozenset[str], tuple[float, int]] = {}
    for n, way in enumerate(load.ways):
        host = host_of_way(load.plan, load.wiring, way)
        if host is None or host in hosts:
            ends = frozenset((way.port, load.wiring.far.get(way.port, (way.port, ""))[0]))
            full = float(load.asked[n] / load.speeds[n]) if np.isfinite(load.speeds[n]) else float(load.asked[n])
            if ends not in best or full > best[ends][0]:
                best[ends] = full, n
    return [
        {
            "ends": sorted(ends),
            "name": way_called(load, load.ways[n]),
            "asked": round(float(load.asked[n]), 3),
            "speed": int(load.speeds[n]) if np.isfinite(load.speeds[n]) else None,
        }
        for ends, (_, n) in best.items()
    ]


def _flow_told(load: Load, flow: Flow, played: Scene, unsent: Sequence[Unsent]) -> dict[str, Any]:
    """A flow with what it asks for and gets, together and of whoever gets least of what he asks for."""
    rates, got, own = played.rates, played.got, load.of_flow.get(flow.id, ())
    asking = [n for n in own if rates[n] > NOTHING]
    least = min(asking, key=lambda n: (got[n] / rates[n], n), default=None)
    reasons = dict.fromkeys(f"{load.name(one.who)}: {one.reason}" if one.who else one.reason for one in unsent)
    worst = None
    if least is not None:
        who = load.name(load.demands[least].who)
        worst = {"who": who, "asks": round(float(rates[least]), 3), "gets": round(float(got[least]), 3)}
    return {
        "id": flow.id,
        "name": flow.name,
        "burst": flow.burst,
        "senders": len({load.demands[n].who for n in own}),
        "asks": round(float(sum(rates[n] for n in asking)), 3),
        "gets": round(float(sum(got[n] for n in asking)), 3),
        "least": worst,
        "unsent": list(reasons)[:MOST_REASONS],
        "more": max(0, len(reasons) - MOST_REASONS),
    }


def key_of(failure: Failure) -> str:
    """What a failure is called by where somebody asks for it."""
    return "|".join((failure.kind, failure.id, *([failure.card] if failure.card else [])))


def failure_called(load: Load, key: str) -> Failure | None:
    """The failure that is asked for; None: nothing goes over such a thing."""
    return next((failure for failure in load.failing_now if key_of(failure) == key), None)


def greatest_burst(load: Load, flow: str) -> int | None:
    """The burst (number of its demand) of a flow that takes most from others, or else fills what it goes over most; None: it has none."""
    own = [n for n in load.of_flow.get(flow, ()) if load.demands[n].burst]
    starving = [one for one in load.starved if one.flow == flow]
    if starving:
        return max(starving, key=lambda one: (one.before - one.gets, -one.burst)).burst
    return min(own, default=None)
