"""How a rule fares."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from aptwire.above.ping import Ping, Way
from aptwire.forward.parts import NOW, State
from aptwire.forward.trace import Trace, say_state
from aptwire.forward.wiring import Wiring

OUTCOMES = HOLDS, BROKEN, UNKNOWN, NOBODY = "holds", "broken", "unknown", "nobody"
"""It holds in every state; it doesn't, and `Answer` says by whom; the plan leaves open whether it does; it speaks of somebody whom the plan hasn't."""

MOST_PAIRS = 20_000
"""Kinds of pairs that a rule may speak of; where there are more, it isn't asked."""


@dataclass(frozen=True)
class Answer:
    """How a rule fares, why in a sentence, and by whom (`a` and `b`, records; empty: by nobody in particular) in which state; `way` is that of a packet
    over routers, `frame` that of a frame, `ping` what was asked."""

    outcome: str
    text: str
    a: str = ""
    b: str = ""
    state: State = NOW
    way: Way | None = None
    frame: Trace | None = None
    ping: Ping | None = None

    def to_json(self, wiring: Wiring) -> dict[str, Any]:
        """The answer for a program, its proof aside: a broken rule's is that of its finding."""
        said = {name: getattr(self, name) for name in ("outcome", "text", "a", "b")}
        return {**said, "state": say_state(wiring, self.state)}


def when(wiring: Wiring, state: State) -> str:
    """A state as the end of a sentence; nothing for today."""
    said = say_state(wiring, state)
    return "" if said == "now" else f" {said}"


def too_many(pairs: int) -> str:
    """Why a rule isn't asked that speaks of very many."""
    return f"It speaks of {pairs} kinds of pairs, and {MOST_PAIRS} are asked at the most: make several rules of it."
