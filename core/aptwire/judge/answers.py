"""What was told of the judgements before, for whoever tells the next one what differs."""

from __future__ import annotations

from typing import Any

from aptwire.judge.changes import Changes


class Answers:
    """Answers about one judgement by question; `before` those about the newest one before it that was asked, with what changed since (None: nobody
    knows).

    Answers must hold nothing that grows old: no judgement, no plan, and no function that remembers one.
    """

    def __init__(self, last: Answers | None = None, changed: Changes | None = None) -> None:
        self.answers: dict[str, Any] = {}
        self.before: dict[str, tuple[Any, Changes | None]] = {}
        if last is not None:
            for question, (answer, since) in last.before.items():
                self.before[question] = answer, None if since is None or changed is None else since | changed
            self.before.update((question, (answer, changed)) for question, answer in last.answers.items())
