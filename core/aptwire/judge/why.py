"""The verdicts, by gravity, and why a place isn't home."""

from __future__ import annotations

from dataclasses import dataclass

from aptwire.forward.parts import NOW, State
from aptwire.forward.wiring import Wiring
from aptwire.plan.plan import Plan

VERDICTS = ("home", "unproven", "wavering", "stranded", "astray", "exposed")
HOME, UNPROVEN, WAVERING, STRANDED, ASTRAY, EXPOSED = range(6)

(
    NO_INTENT,
    NO_GROUP,
    WRONG_TAG,
    CUT_OFF,
    OPEN_END,
    ADDRESS,
    LEAK,
    TWIN,
    NO_BEARER,
    GONE,
    TOO_LARGE,
    MIRRORED,
    TWIN_MAC,
    NO_LEASE,
    WRONG_LEASE,
    NO_PREFIX,
    WRONG_PREFIX,
) = (
    "no-intent",
    "no-port-group",
    "wrong-tag",
    "cut-off",
    "open-end",
    "address",
    "leak",
    "twin",
    "no-bearer",
    "gone",
    "too-large",
    "mirrored",
    "twin-mac",
    "no-lease",
    "wrong-lease",
    "no-prefix",
    "wrong-prefix",
)


@dataclass(frozen=True)
class Cause:
    """Why a place isn't home: what is wrong, in which state, and towards which other place (a record; empty: towards the fabric); `at` the
    record where it sits, where that is known, and `detail` what is said of it there."""

    what: str
    state: State = NOW
    towards: str = ""
    at: str = ""
    detail: str = ""


def alike(one: Cause | None, two: Cause | None) -> bool:
    """Whether the same thing is wrong, in the same state."""
    return (one and (one.what, one.state)) == (two and (two.what, two.state))


def is_idle(plan: Plan, endpoint: str) -> bool:
    """Whether an endpoint is disconnected or its guest is off."""
    port = plan.of("host_port").get(endpoint)
    if port is not None:
        return not port.connected
    adapter = plan.get("adapter", endpoint)
    return not adapter.connected or not plan.get("guest", adapter.guest).running


def tag_text(wiring: Wiring, number: int) -> str:
    """A VID class as people say it: its VID, or "untagged"."""
    return str(wiring.classes.vid(number) or "untagged") if number > 0 else "untagged"
