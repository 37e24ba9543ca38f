"""Hosts that aren't reached, or don't start, while their system doesn't run."""

from __future__ import annotations

from collections.abc import Iterator

from aptwire.above.leases import Leases
from aptwire.judge.risks.base import RISK, Risk, RiskSearch
from aptwire.judge.starting import Entry, fits, heard, of_bmc, of_start
from aptwire.judge.voices import voices
from aptwire.plan.edits import Edit, Operation, Patch
from aptwire.plan.gestures import letting
from aptwire.plan.kinds import Bmc, Host, Segment
from aptwire.plan.names import called, some

Offers = tuple[tuple[str, Edit], ...]


class StartRisks(RiskSearch):
    """BMCs that land elsewhere than they belong, and hosts that find nobody to start from."""

    def controllers(self) -> Iterator[Risk]:
        """BMCs that aren't where they belong, or aren't reached while the host is off."""
        for bmc in sorted(self.plan.all(Bmc), key=lambda b: b.id):
            segment = self.plan.of("segment").get(bmc.belongs)
            found = of_bmc(self.judgement, bmc)
            name = self.host(bmc.host)
            if found.port is None:
                nic = called(self.plan, found.nic)
                yield self._lost(
                    bmc,
                    f"The BMC of {name} is reached by nobody",
                    f"{nic}, which it shares, is plugged into no switch that the plan has.",
                    "bmc-unplugged",
                    (),
                )
                continue
            if segment is not None and not fits(segment, found):
                yield self._astray(bmc, segment, found)
            elif (
                segment is not None and found.place is not None and heard(self.judgement, segment, found.place) is False
            ):
                text = f"It lands on {segment.name} at {called(self.plan, found.port)}, and nobody else of it is heard there."
                yield self._lost(bmc, f"The BMC of {name} is cut off from {segment.name}", text, "bmc-cut-off", ())
            if bmc.nic is not None and found.waits is not None:
                lag = called(self.plan, found.waits)
                text = f"{called(self.plan, found.port)} is in {lag}, which waits for a partner that speaks LACP; a BMC doesn’t."
                mends: Offers = (
                    (f"Let the ports of {lag} stand alone", (Patch("lag", found.waits.id, {"individual": True}),)),
                )
                yield self._lost(bmc, f"While {name} is off, its BMC is cut off", text, "bmc-waits", mends)

    def _lost(self, bmc: Bmc, title: str, text: str, what: str, mends: Offers) -> Risk:
        about = self.plan.get("nic", bmc.nic) if bmc.nic is not None else self.plan.get("fabric_port", bmc.port or "")
        facts = (self.fact(about.id, f"the BMC of {self.host(bmc.host)}", text),)
        return Risk(RISK, what, (bmc.id,), title, text, (bmc.id,), segment=bmc.belongs, facts=facts, mends=mends)

    def _astray(self, bmc: Bmc, segment: Segment, found: Entry) -> Risk:
        assert found.port is not None
        sent = f"tagged {bmc.vid}" if bmc.vid else "untagged"
        where = called(self.plan, found.port)
        says = f"It sends {sent} frames, and {where} " + (
            "drops those."
            if found.lands is None
            else f"takes them for VID {found.lands}."
            if found.lands
            else "leaves them untagged."
        )
        title = f"The BMC of {self.host(bmc.host)} lands {self._on(found)} and belongs on {segment.name}"
        mends: list[tuple[str, Edit]] = []
        if segment.vid and bmc.vid != segment.vid:
            let = letting(found.port, {segment.vid})
            edit: tuple[Operation, ...] = (
                Patch("bmc", bmc.id, {"vid": segment.vid}),
                *((let,) if let is not None else ()),
            )
            mends.append((f"Have it tag {segment.vid}", edit))
        if segment.vid and bmc.port is not None and not bmc.vid and found.port.mode == "access":
            mends.append(
                (f"Make {where} access {segment.vid}", (Patch("fabric_port", found.port.id, {"vid": segment.vid}),))
            )
        return self._lost(bmc, title, says, "bmc-astray", tuple(mends))

    def _on(self, found: Entry) -> str:
        """Where frames land, in words."""
        if found.lands is None:
            return "nowhere"
        if not found.lands:
            return "untagged"
        there = self.plan.where("segment", "vid", found.lands)
        return f"on {there[0].name}" if there else f"on VID {found.lands}, which is no segment,"

    def starts(self) -> Iterator[Risk]:
        """Hosts that start over the network, and find nobody who leases there, or not even the segment."""
        for host in sorted(self.plan.having("host", "boots"), key=lambda h: h.id):
            segment: Segment = self.plan.get("segment", host.boots or "")
            entries = list(of_start(self.judgement, host))
            right = [e for e in entries if fits(segment, e)]
            good = [e for e in right if e.waits is None]
            if not good:
                told = [f"{e.nic.name}: {self._why(segment, e)}" for e in entries if e.nic is not None]
                text = f"It asks untagged, over each NIC by itself; {'; '.join(told) if told else 'none of its NICs has a link'}."
                yield self._no_start(host, segment, text, self._lets_start(segment, right or entries))
            elif self.plan.of("lease_scope") and not any(self._leased(e) for e in good):
                names = some(e.nic.name for e in good if e.nic is not None)
                text = f"It lands there over {names}, and nobody who leases addresses hears it."
                yield self._no_start(host, segment, text, ())

    def _no_start(self, host: Host, segment: Segment, text: str, mends: Offers) -> Risk:
        title = f"{host.name} can’t start over {segment.name}"
        facts = (self.fact(host.id, f"starts over {segment.name}", text),)
        return Risk(RISK, "no-start", (host.id,), title, text, (host.id,), segment=segment.id, facts=facts, mends=mends)

    def _why(self, segment: Segment, found: Entry) -> str:
        if found.port is None:
            return "plugged into no switch"
        if fits(segment, found) and found.waits is not None:
            return f"{called(self.plan, found.waits)} waits for a partner that speaks LACP"
        return f"{called(self.plan, found.port)} {'drops what is untagged' if found.lands is None else f'takes it for VID {found.lands}' if found.lands else 'leaves it untagged'}"

    def _lets_start(self, segment: Segment, entries: list[Entry]) -> Offers:
        """What has the first NIC's port take untagged frames for the segment's, and not wait."""
        made: list[tuple[str, Edit]] = []
        for found in (e for e in entries if e.port is not None):
            assert found.port is not None
            edit: list[Patch] = []
            if not fits(segment, found) and segment.vid and found.port.mode == "trunk":
                let = letting(found.port, {segment.vid})
                changes = {**(let.changes if let is not None else {}), "native": segment.vid}
                edit.append(Patch("fabric_port", found.port.id, changes))
            if found.waits is not None:
                edit.append(Patch("lag", found.waits.id, {"individual": True}))
            if edit and (fits(segment, found) or found.port.mode == "trunk"):
                what = (
                    [f"Make {segment.vid} native on {called(self.plan, found.port)}"]
                    if edit[0].kind == "fabric_port"
                    else []
                )
                what += (
                    [f"{'let' if what else 'Let'} the ports of {called(self.plan, found.waits)} stand alone"]
                    if found.waits is not None
                    else []
                )
                made.append((", ".join(what), tuple(edit)))
        return tuple(made[:2])

    def _leased(self, found: Entry) -> bool:
        """Whether somebody who leases addresses may hear what comes in, and be heard."""
        if found.place is None:
            return False
        known, place = voices(self.judgement), found.place
        servers = (self.wiring.place(source.at) for source in self.judgement.once(Leases).sources)
        return any(known.may(place, other) for other in servers if other is not None)
