"""Roles that rest on a single NIC, or on NICs that fail together."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

from aptwire.forward.parts import Team
from aptwire.judge.facts import Facts, carrying
from aptwire.judge.permits import permit_all
from aptwire.judge.risks.base import RISK, Offers, Risk, RiskSearch
from aptwire.judge.shared import free_nic
from aptwire.plan import vids
from aptwire.plan.edits import Edit, Operation, Patch
from aptwire.plan.kinds import Nic, Uplink
from aptwire.plan.names import called, some
from aptwire.plan.sharing import whole_lag


@dataclass(frozen=True)
class _Way:
    """One way in which one host gets a second NIC for its roles, in words, and whom the words are about."""

    said: str
    about: str
    edit: tuple[Operation, ...]


class ThinRisks(RiskSearch):
    """What fails with one NIC, or with one card."""

    def thin_teams(self, listed: tuple[Facts, ...]) -> Iterator[tuple[tuple[str, tuple[str, ...]], tuple[Facts, Team]]]:
        """A host's teams of one NIC or one card, by that and the roles on it."""
        for found in listed:
            for what, team in found.thin:
                yield (what, tuple(sorted(found.roles))), (found, team)

    def thin(self, key: tuple[str, tuple[str, ...]], teams: list[tuple[Facts, Team]]) -> Iterator[Risk]:
        """Roles that rest on a single NIC, or on NICs of one card; hosts with the same roles on it share a risk."""
        what, roles = key
        if what == "single-nic":
            rests, way = "a single NIC", ThinRisks._second
            text = "When it or its port fails, they are gone."
        else:
            rests, way = "one card", ThinRisks._other_card
            text = "All NICs of the team are on the same card, and fail with it."
        yield self._thin(what, roles, teams, rests, text, partial(_offered, way=way, teams=teams))

    def _thin(
        self,
        what: str,
        roles: tuple[str, ...],
        teams: list[tuple[Facts, Team]],
        rests: str,
        text: str,
        mends: Offers,
    ) -> Risk:
        nics = tuple(m.nic.id for _, t in teams for m in t.members[: t.usable])
        hosts = some(sorted(self.host(found.host) for found, _ in teams))
        names = some(called(self.plan, self.plan.find(n)) for n in nics)
        return Risk(
            RISK,
            what,
            roles,
            f"{some(roles)} rest{'s' if len(roles) == 1 else ''} on {rests} on {hosts}",
            f"{names}: {text[:1].lower()}{text[1:]}",
            nics,
            facts=tuple(self.fact(n, rests, f"carries {some(roles)}") for n in nics[:20]),
            mends=mends,
        )

    def _second(self, teams: list[tuple[Facts, Team]]) -> Iterator[tuple[str, Edit]]:
        """The same way for every host; or where none suits them all, for each the first that suits it."""
        tried = [self._join_free, self._join_spare, self._move_over]
        ways = [[way(found, team) for found, team in teams] for way in tried]
        whole = [[w for w in of if w is not None] for of in ways if all(of)]
        if not whole:
            first = [next((w for w in of if w is not None), None) for of in zip(*ways, strict=True)]
            whole = [[w for w in first if w is not None]] if all(first) else []
        for found in whole:
            said = list(dict.fromkeys(w.said for w in found))
            title = ", and ".join(f"{text} {some(w.about for w in found if w.said == text)}" for text in said)
            yield title[:1].upper() + title[1:], tuple(op for w in found for op in w.edit)

    def _join_free(self, found: Facts, team: Team) -> _Way | None:
        free = free_nic(self.plan, found.host, self.wiring.far)
        return self._join("add a free NIC to", free, found, team)

    def _join_spare(self, found: Facts, team: Team) -> _Way | None:
        """A NIC of a team on the same host that has two without it."""
        rich = [
            nics[-1]
            for other in self.book.hosts[found.host]
            for richer in other.teams
            if len(nics := carrying(richer)) > 2
            and not self.plan.where("adapter", "function_of", nics[-1].id)
            and not self.plan.where("group_order", "nic", nics[-1].id)
        ]
        return self._join("give a NIC of a larger team to", min(rich, key=lambda n: n.name, default=None), found, team)

    def _join(self, said: str, nic: Nic | None, found: Facts, team: Team) -> _Way | None:
        if nic is None or not isinstance(team.uplink, Uplink):
            return None
        role = "standby" if team.uplink.mode == "standby" else "active"
        rank = max(m.nic.rank for m in team.members if isinstance(m.nic, Nic)) + 1
        edit = [Patch("nic", nic.id, {"uplink": team.uplink.id, "role": role, "rank": min(rank, 63)})]
        permits = self._permits([nic], found, team)
        about = called(self.plan, team.uplink)
        return _Way(said, f"{about} with its tags on its port" if permits else about, (*edit, *permits))

    def _permits(self, nics: list[Nic], found: Facts, team: Team) -> list[Operation]:
        """What the ports behind some NICs have to carry so that a switch lands over them where it does over its own."""
        own = self.wiring.port_behind(carrying(team)[0].id)
        untagged = None
        if own is not None and 0 in found.needs:
            untagged = own.vid if own.mode == "access" else own.native
        behind = [self.wiring.port_behind(nic.id) for nic in nics]
        return [op for port in behind if port is not None for op in permit_all(self.plan, port, found.needs, untagged)]

    def _move_over(self, found: Facts, team: Team) -> _Way | None:
        """All that sits on the switch goes to a switch of the host that has a team."""
        richer = [
            (other, its)
            for other in self.book.hosts[found.host]
            if other.switch != found.switch and len(other.teams) == 1
            for its in other.teams
            if len(carrying(its)) > 1
        ]
        if not richer or len(found.teams) > 1:
            return None
        other, its = min(richer, key=lambda pair: pair[0].switch)
        edit: list[Operation] = []
        for kind in ("host_port", "port_group"):
            edit += [Patch(kind, r.id, {"switch": other.switch}) for r in self.plan.where(kind, "switch", found.switch)]
        uplink = self.plan.get("uplink", its.uplink.id)
        if uplink.allowed is not None:
            allowed = vids.members(uplink.allowed, True) | found.needs
            edit.append(Patch("uplink", uplink.id, {"allowed": vids.write(allowed)}))
        edit += self._permits(carrying(its), found, team)
        one, two = (called(self.plan, self.plan.get("virtual_switch", f.switch)) for f in (found, other))
        return _Way("move what is on", f"{one} to {two}", tuple(edit))

    def _other_card(self, teams: list[tuple[Facts, Team]]) -> Iterator[tuple[str, Edit]]:
        edit: list[Operation] = []
        said = "Take a free NIC of another card in place of the last one"
        for found, team in teams:
            last = team.members[team.usable - 1].nic
            free = free_nic(self.plan, found.host, self.wiring.far, getattr(last, "card", ""))
            if free is None or not isinstance(last, Nic):
                return
            ports = [self.wiring.port_behind(nic.id) for nic in (*carrying(team), free)]
            if len({whole_lag(self.plan, port.lag if port is not None else None) for port in ports}) > 1:
                # It isn't in the LAG of the others, so there can be none.
                said = "Make it a standby team with a free NIC of another card in place of the last one"
                edit.append(Patch("uplink", team.uplink.id, {"mode": "standby"}))
                edit += [Patch("fabric_port", p.id, {"lag": None}) for p in ports if p is not None and p.lag]
            edit.append(Patch("nic", free.id, {"uplink": team.uplink.id, "role": last.role, "rank": last.rank}))
            edit.append(Patch("nic", last.id, {"uplink": None}))
            edit += self._permits([free], found, team)
        yield said, tuple(edit)


def _offered(
    search: ThinRisks,
    way: Callable[[ThinRisks, list[tuple[Facts, Team]]], Iterator[tuple[str, Edit]]],
    teams: list[tuple[Facts, Team]],
) -> tuple[tuple[str, Edit], ...]:
    """What a way of mending offers for teams as they are now."""
    hosts = dict.fromkeys(facts.host for facts, _ in teams)
    now = {facts.switch: facts for host in hosts for facts in search.book.hosts.get(host, ())}
    keys = {team.key for _, team in teams}
    found = (now[switch] for switch in dict.fromkeys(facts.switch for facts, _ in teams) if switch in now)
    return tuple(way(search, [(facts, team) for facts in found for team in facts.teams if team.key in keys]))
