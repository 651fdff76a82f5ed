"""The internet, third parties and services: who is beyond the estate, what they answer to, and how they reply."""

from collections.abc import Iterator, Mapping

from fenrask.estate import Onward
from fenrask.prefixes import PRIVATE, Address, Prefix, is_public
from fenrask.rehearsal.attempts import party_of
from fenrask.rehearsal.laboratory import ROWS, Space, Wire
from fenrask.rehearsal.places import Places
from fenrask.rehearsal.rules import among, hook, table
from fenrask.rehearsal.ways import OUT

__all__ = ["LISTENING", "Outside"]

LISTENING = 1 << 25
"""The mark of sockets that answer, by which they have a route to begin with; the request's wire then decides."""


class Outside:
    """Everybody beyond the estate."""

    def __init__(self, places: Places) -> None:
        self.places, self.estate, self.lab, self.shown = places, places.estate, places.lab, places.shown
        self.parties: dict[str, list[str]] = {}
        """The lines to each third party."""
        for name, exit_ in self.estate.exits.items():
            if exit_.onward is Onward.THIRD_PARTY:
                self.parties.setdefault(party_of(self.estate, name), []).append(name)
        for party, lines in self.parties.items():
            self._stand_party(party, lines)
        self._stand_targets()
        self._stand_internet()

    def _stand_targets(self) -> None:
        """Targets of hosts answer wherever they can be: on the internet, at a third party, behind an endpoint."""
        for target in dict.fromkeys(one.target for one in self.places.tries if one.is_from_host):
            if is_public(target) and not self.estate.subnets_at(target):
                self.lab.space("internet").local[target] = None
            for party, lines in self.parties.items():
                if any(target in prefix for line in lines for prefix in self.estate.exits[line].announced):
                    self.lab.space(f"party {party}").local[target] = None
            for name in self._endpoints_to(target):
                self.places.exit(name).local[target] = None

    def _endpoints_to(self, target: Address) -> Iterator[str]:
        for name, exit_ in self.estate.exits.items():
            if exit_.onward is Onward.SERVICE:
                prefixes = [one for to in exit_.carries or () for one in self.estate.destinations[to].prefixes]
                if any(target in one for one in prefixes):
                    yield name

    def _stand_internet(self) -> None:
        """Replies leave the internet by the exit that the request came by; private sources have no path there."""
        space = self.lab.space("internet")
        self._answer(space, {})
        self._route_in(space)
        lines = [f"{among('saddr', PRIVATE, version)} drop" for version in (4, 6)]
        for destination in self.estate.destinations.values():
            for version in (4, 6) if destination.is_guarded and destination.service else ():
                if there := among("daddr", destination.prefixes, version):
                    listed = (
                        among("saddr", destination.allowed, version, but=True)
                        if destination.public_access == "listed"
                        else ""
                    )
                    lines += [f"{there} {listed} drop"] if destination.public_access != "open" else []
        space.statements.append(table("inet", "guard", [hook("i", "input", lines)]))

    def _route_in(self, space: Space) -> None:
        """What is sent to public addresses of the estate comes in by the internet exit of their network."""
        doors: dict[str, Wire | None] = {}
        for name, exit_ in self.estate.exits.items():
            if exit_.takes_public_sources and exit_.of_network:
                doors.setdefault(exit_.of_network, self._wire_to(space, name))
        into: list[tuple[Prefix | Address, Wire | None]] = []
        for name, exit_ in self.estate.exits.items():
            door = doors.get(self.estate.network_of(exit_) or "")
            into += [(one, door if exit_.in_subnets else self._wire_to(space, name)) for one in self.shown.of(name)]
        for host, public in self.shown.public_of.items():
            into += [(public, doors.get(self.estate.subnets[one].network)) for one in self.estate.subnets_at(host)]
        for stated in self.estate.subnets.values():
            own = (one for one in stated.prefixes if one.version == 6 and is_public(one))
            into += [(one, doors.get(stated.network)) for one in own]
        for prefix, wire in into:
            if wire is not None:
                space.route(ROWS, prefix, wire)

    def _wire_to(self, space: Space, exit_name: str) -> Wire | None:
        """The wire from somebody outside to an exit; None where there is none."""
        peers = {one.name for one in self.places.exit(exit_name).wires}
        return next((one for one in space.wires if one.peer in peers), None)

    def _stand_party(self, party: str, lines: list[str]) -> None:
        """A third party answers by the line with the longest advertised prefix; of equal ones by the request's."""
        space = self.lab.space(f"party {party}")
        space.forwards = False
        advertised: dict[Wire, tuple[Prefix, ...]] = {}
        for name in lines:
            exit_ = self.estate.exits[name]
            if (wire := self._wire_to(space, name)) is not None:
                advertised[wire] = () if exit_.fault else tuple(exit_.known_beyond or ())
        self._answer(space, advertised)

    @staticmethod
    def _answer(space: Space, advertised: Mapping[Wire, tuple[Prefix, ...]]) -> None:
        """Replies by the wire that the request came by, or by what is advertised over wires, if that is told.

        What is not advertised is not sent to either.
        """
        lines = []
        for wire in space.wires:
            lines.append(f"iifname {wire.name} ct mark set {wire.table}")
            space.rules.append(f"fwmark {wire.table} lookup {wire.table} priority 100")
            if wire not in advertised:
                space.default(wire.table, wire)
                continue
            given: dict[Prefix, Wire] = {}
            for other in sorted(advertised, key=lambda wire_: wire_ is not wire):
                for prefix in advertised[other]:
                    given.setdefault(prefix, other)
            for prefix, other in given.items():
                space.route(wire.table, prefix, other)
            space.ends(wire.table)
        space.rules.append(f"fwmark {LISTENING} lookup {OUT} priority 110")
        space.looks_up(ROWS)
        if space.wires:
            space.default(OUT, space.wires[0])
        for prefix in dict.fromkeys(one for some in advertised.values() for one in some):
            space.route(ROWS, prefix, [wire for wire, some in advertised.items() if prefix in some])
        space.statements.append(table("inet", "answers", [hook("p", "prerouting", lines, "filter", -50)]))
        for family in ("ip", "ip6"):
            restored = ["ct mark != 0 meta mark set ct mark"]
            space.statements.append(table(family, "answers", [hook("o", "output", restored, "route", -50)]))
