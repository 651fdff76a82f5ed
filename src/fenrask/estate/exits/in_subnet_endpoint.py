"""A private path into a provider's service, entered at an address inside a subnet."""

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import BuildPatch
from fenrask.estate.exits.private_endpoint import PrivateEndpoint

__all__ = ["InSubnetEndpoint"]

_PUBLIC = {"names": "public"}


class InSubnetEndpoint(PrivateEndpoint):
    purpose: ClassVar[str] = "private path into a provider's service, entered at an address in a subnet, found by name"

    added_and_taken: ClassVar[tuple[str, ...]] = ("subnets",)
    steering: ClassVar[tuple[str, ...]] = ("names", "names_for", "names_in")

    kind: Literal["in-subnet-endpoint"]
    subnets: Annotated[tuple[str, ...], Field(min_length=1)] = Field(description="one subnet for each zone it serves")
    names: Literal["private", "public"] = Field(
        "private", description="whether the service's names resolve to it inside the network"
    )

    names_for: Annotated[tuple[str, ...], Field(min_length=1)] | None = Field(
        None,
        description="the only subnets in which these names resolve to it, of whatever network; default: all of its "
        "own network, and of `names_in`",
    )
    names_in: tuple[str, ...] = Field(
        (), description="other networks in which these names resolve to it: they reach it over a hub or a peering"
    )

    @classmethod
    def built_by(cls, stated: Mapping[str, Any], askers: Sequence[str]) -> list[BuildPatch]:
        """It is made with its names still public; then come its policy, the names for one subnet, and for all."""
        policy = {key: value for key, value in stated.items() if key in cls.keys_of("in_force_first")}
        made = {key: value for key, value in stated.items() if key not in (*policy, *cls.steering)}
        found = [BuildPatch("", {**made, **{key: stated[key] for key in policy if key == "filters"}, **_PUBLIC})]
        if own := {key: value for key, value in policy.items() if key != "filters"}:
            found.append(BuildPatch(", ".join(own), own))
        names: dict[str, Any] = {"names": None} | {key: stated[key] for key in cls.steering if key in stated}
        if names["names"] == "public":
            return [BuildPatch("", {**found[0].stated, **names}), *found[1:]]
        if "names_for" not in names and len(askers) > 1:
            found.append(BuildPatch(f"names resolve to it in {askers[0]}", {**names, "names_for": [askers[0]]}))
            names = {"names_for": None}
        return [*found, BuildPatch("names resolve to it in all its subnets", names)]

    @classmethod
    def removed_by(cls, stated: Mapping[str, Any]) -> list[BuildPatch]:
        """Names resolve publicly again before it goes."""
        return [BuildPatch("names are public again", _PUBLIC)] if stated.get("names") != "public" else []

    @property
    def serves_by_name(self) -> tuple[str, ...]:
        return self.names_in

    @property
    def serves_subnets_by_name(self) -> tuple[str, ...] | None:
        return self.names_for

    @property
    def in_subnets(self) -> tuple[str, ...]:
        return self.subnets

    @property
    def found_by_name(self) -> bool:
        return self.names == "private"

    @property
    def units(self) -> int:
        return len(self.subnets)
