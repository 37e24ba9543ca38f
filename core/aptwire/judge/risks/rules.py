"""Rules that are broken, of which nobody can know whether they hold, and that speak of nobody."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from aptwire.forward.trace import Hop
from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch
from aptwire.judge.risks.freedoms import FreedomRisks
from aptwire.judge.shared import shares
from aptwire.plan.edits import Drop, Edit
from aptwire.plan.kinds import PLACES, Rule
from aptwire.plan.names import called
from aptwire.plan.sentences import Apart, Share, read
from aptwire.rules.against import contradictions
from aptwire.rules.answer import BROKEN, HOLDS, NOBODY, UNKNOWN
from aptwire.rules.asking import asked
from aptwire.rules.mending import rule_offers

RULE_RISKS = {BROKEN: "broken-rule", UNKNOWN: "unknown-rule", NOBODY: "idle-rule"}
"""What a rule that isn't kept is called as a risk."""

_SAID = {
    BROKEN: (RISK, "A rule is broken: {}"),
    UNKNOWN: (UNTIDY, "Nobody can know whether a rule holds: {}"),
    NOBODY: (UNTIDY, "A rule speaks of nobody: {}"),
}


class RuleRisks(RiskSearch):
    """What must hold, and doesn't."""

    def rules(self) -> Iterator[Risk]:
        """One for each rule that isn't kept."""
        for rule, answer in asked(self.judgement).rules() if self.plan.of("rule") else ():
            if answer.outcome == HOLDS:
                continue
            verdict, title = _SAID[answer.outcome]
            places = [place for id in (answer.a, answer.b) if id and (place := self.wiring.place(id)) is not None]
            yield Risk(
                verdict,
                RULE_RISKS[answer.outcome],
                (rule.id,),
                title.format(rule.text),
                answer.text,
                (rule.id,),
                tuple(dict.fromkeys(place.endpoint for place in places if place.stand.judged)),
                facts=partial(RuleRisks._evidence, text=rule.text),
                mends=partial(RuleRisks._offers, id=rule.id, text=rule.text),
                state=answer.state,
            )

    def contradictions(self) -> Iterator[Risk]:
        """Two rules of which at most one can hold, whatever is wired."""
        if not self.plan.of("rule"):
            return
        look = asked(self.judgement)
        for found in contradictions(look.look.meaning, look.rules()):
            names = [look.look.name(id) for id in (found.a, found.b)]
            texts = (found.apart.text, found.reach.text)
            yield Risk(
                RISK,
                "contradicting-rules",
                (found.apart.id, found.reach.id),
                "Two rules contradict each other",
                f"“{texts[0]}” keeps {names[0]} and {names[1]} apart, and “{texts[1]}” has {names[0]} reach {names[1]}.",
                (found.apart.id, found.reach.id),
                facts=tuple(self.fact(rule.id, rule.text, "not both can hold") for rule in (found.apart, found.reach)),
                mends=tuple(
                    (f"Take away “{rule.text}”", (Drop(Rule.kind, rule.id),)) for rule in (found.apart, found.reach)
                ),
            )

    def _evidence(self, text: str) -> tuple[Hop, ...]:
        """How somebody breaks a rule: each hop of the frame or packet."""
        answer = asked(self.judgement).ask(text)
        if answer.frame is not None:
            return answer.frame.hops
        ways = (answer.way,) if answer.way is not None else answer.ping.ways if answer.ping is not None else ()
        hops = []
        for way in ways:
            for leg in way.legs:
                out, to = (called(self.plan, self.plan.find(id)) if id else "nobody" for id in (leg.out, leg.to))
                lost = leg.outcome != "answered"
                records = tuple(id for id in (leg.out, leg.to) if id)
                hops.append(
                    Hop(
                        records,
                        f"{out} to {to}",
                        way.source,
                        way.target,
                        leg.by,
                        "dropped" if lost else "passed",
                        leg.reason,
                    )
                )
            if way.reason and (not hops or not hops[-1].reason):
                hops.append(Hop((), way.target, "", "", "", "dropped", way.reason))
        if hops:
            return tuple(hops)
        found = [self.fact(id, text, answer.text) for id in (answer.a, answer.b) if self.plan.find(id)]
        sentence = read(text)
        if isinstance(sentence, Share):
            shared = shares(self.judgement).of(sentence, self.plan.where("rule", "text", text)[0].id)
            found = [self.fact(id, text, f"{s.a} and {s.b}") for s in shared for _, id in s.where if self.plan.find(id)]
        return tuple(found) or (Hop((), text, "", "", "", "astray", answer.text),)

    def _offers(self, id: str, text: str) -> tuple[tuple[str, Edit], ...]:
        """What would have the rule hold; and that it goes."""
        answer, sentence = asked(self.judgement).ask(text), read(text)
        found = rule_offers(self.judgement, text) if answer.outcome == BROKEN else []
        if answer.outcome == BROKEN and isinstance(sentence, Apart) and sentence.hostile:
            for record in (answer.a, answer.b):
                place = self.wiring.place(record)
                group = self.plan.of("port_group").get(getattr(self.plan.find(record, PLACES), "port_group", None))
                if place is not None and group is not None:
                    switch = self.plan.get("virtual_switch", group.switch)
                    found += FreedomRisks._narrower(self, group=group, switch=switch)  # type: ignore[arg-type]
        if answer.outcome == BROKEN and isinstance(sentence, Share):
            look = shares(self.judgement)
            hosts = sorted({host for shared in look.of(sentence, id) for host, _ in shared.where})
            found += look.splits(sentence.a, hosts)
        return (*found, ("Take the rule away", (Drop(Rule.kind, id),)))
