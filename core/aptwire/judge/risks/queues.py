"""Receive queues that are served badly: by processors of another node, of another NIC, or that aren't there; by more or fewer than there are queues."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial

from aptwire.judge.risks.base import RISK, UNTIDY, Offers, Risk, RiskSearch, naming
from aptwire.plan import cores
from aptwire.plan.edits import Edit
from aptwire.plan.kinds import Nic, NumaNode
from aptwire.plan.names import called, natural, some
from aptwire.stress.queues import WORTH, claimed, settings


class QueueRisks(RiskSearch):
    """What the plan says of the receive queues of NICs, against the processors that its hosts have."""

    def queues(self) -> Iterator[Risk]:
        """Those of all hosts, for as long as nothing about a NIC differs."""
        rests = naming(self, "uplink", "port_group", "group_order", "nic", "numa_node")
        yield from self.kept.get("queues", rests, lambda: list(self._by_host()))

    def _by_host(self) -> Iterator[Risk]:
        """Host by host, those with a NIC of which somebody said which processors serve it."""
        said = {nic.host for nic in self.plan.having("nic", "cores")}
        rests = naming(self, "uplink", "port_group", "group_order")
        for host in sorted(said):
            nics = tuple(self.plan.where("nic", "host", host))
            nodes = tuple(self.plan.where("numa_node", "host", host))
            find: Callable[[], list[Risk]] = partial(self._queues_of, host, nics, nodes)
            yield from self.kept.get(("queues", host), (*rests, *nics, *nodes), find)

    def _queues_of(self, host: str, nics: Sequence[Nic], nodes: Sequence[NumaNode]) -> list[Risk]:
        """What is wrong on one host."""
        return list(self._badly_served(host, nics, nodes))

    def _badly_served(self, host: str, nics: Sequence[Nic], nodes: Sequence[NumaNode]) -> Iterator[Risk]:
        served = {nic: cores.processors(nic.cores) for nic in sorted(nics, key=lambda n: natural(n.name)) if nic.cores}
        yield from self._served_together(host, served)
        there = [(node, core) for node in nodes for core in cores.cores(node.cores)]
        where = {thread: node for node, core in there for thread in core}
        off = {processor for node in nodes for processor in cores.processors(node.offline or "")}
        first = min((core for _, core in there), default=())
        second = {thread for _, core in there for thread in core[1:]}
        for nic, own in served.items():
            name = called(self.plan, nic)
            lost = own & off or (own - where.keys() if nodes else frozenset[int]())
            if lost:
                why = "are switched off" if own & off else "aren’t there"
                text = f"Interrupts of its queues go to {cores.write(lost)} of {self.host(host)}, which {why}."
                yield self._queues_told(RISK, "lost-processor", nic, f"{name} is served by processors that {why}", text)
                continue
            far = sorted(p for p in own if p in where and nic.numa is not None and where[p].number != nic.numa)
            if far:
                text = f"{cores.write(far)} {'is' if len(far) == 1 else 'are'} of another NUMA node than {nic.numa}, on which it hangs: each packet crosses between the two."
                yield self._queues_told(
                    RISK, "far-processor", nic, f"{name} is served by processors of another NUMA node", text
                )
            odd = sorted(own & {*first, *second})
            if odd:
                text = f"{cores.write(odd)} {'is' if len(odd) == 1 else 'are'} the host’s first core, on which everything else runs, or second threads of cores."
                yield self._queues_told(
                    UNTIDY, "odd-processor", nic, f"{name} is served by processors better left alone", text
                )
            if nic.speed is not None and nic.speed < WORTH and len(own) > 1:
                text = f"It does {nic.speed:,} Mbit/s, for which one core is enough; it has {len(own)}."
                yield self._queues_told(UNTIDY, "slow-queues", nic, f"{name} is too slow for several queues", text)
            elif nic.queues is not None and nic.queues != len(own):
                fewer = nic.queues < len(own)
                text = f"It has {nic.queues} receive queue{'' if nic.queues == 1 else 's'} and {len(own)} processors that serve them: "
                text += "the others have nothing to do." if fewer else "some serve several."
                what = "fewer" if fewer else "more"
                yield self._queues_told(
                    UNTIDY, "uneven-queues", nic, f"{name} has {what} queues than processors that serve them", text
                )

    def _served_together(self, host: str, served: dict[Nic, frozenset[int]]) -> Iterator[Risk]:
        """NICs on one core, unless any flow may come in on any of them."""
        teamed = [nic for nic in served if nic.uplink is not None]
        beside = {nic: claim for claim in claimed(self.plan, teamed) for nic in claim.nics}
        for n, one in enumerate(teamed):
            apart = (two for two in teamed[n + 1 :] if beside[one.id] is not beside[two.id])
            others = [two for two in apart if served[one] & served[two]]
            if others:
                shared = served[one] & frozenset().union(*(served[two] for two in others))
                names = some([two.name for two in others])
                yield Risk(
                    RISK,
                    "shared-processor",
                    (one.id, *(two.id for two in others)),
                    f"{called(self.plan, one)} and {names} are served by the same processors",
                    f"{cores.write(shared)}: where both are busy, each waits for the other.",
                    (one.id, *(two.id for two in others)),
                    facts=tuple(self.fact(nic.id, f"processors {nic.cores}", "the same") for nic in (one, *others)),
                    mends=_anew(host),
                )

    def _queues_told(self, verdict: str, what: str, nic: Nic, title: str, text: str) -> Risk:
        fact = f"{nic.queues or 'any'} queues, processors {nic.cores}"
        return Risk(
            verdict,
            what,
            (nic.id,),
            title,
            text,
            (nic.id,),
            facts=(self.fact(nic.id, fact, text),),
            mends=_anew(nic.host),
        )


def _anew(host: str) -> Offers:
    """The queues of a host as its queue plan says, worked out when somebody asks."""

    def made(search: RiskSearch) -> tuple[tuple[str, Edit], ...]:
        edit = settings(search.plan, [host])
        return ((f"Lay out the queues of {search.host(host)} anew", edit),) if edit else ()

    return made
