"""A firewall that inspects by rule and may translate."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import Translating

__all__ = ["InspectingFirewall"]


class InspectingFirewall(Translating):
    purpose: ClassVar[str] = "inspects what passes, may translate, has nodes"
    inspects: ClassVar[bool] = True

    kind: Literal["inspecting-firewall"]
    offer: str = Field(description="the catalogue's offer")
    subnet: str = Field(description="the subnet it stands in, whose table says where it sends on")
    nodes: Annotated[int, Field(strict=True, ge=1)] = Field(1, description="nodes that run and are paid")
    translation: Literal["always", "never"] = Field("always", description="whether it rewrites the source")

    @property
    def translates(self) -> bool:
        return self.translation == "always"

    @property
    def stated_addresses(self) -> int | None:
        return super().stated_addresses if self.translates else 0

    @property
    def stands_in(self) -> tuple[str, ...]:
        return (self.subnet,)

    @property
    def units(self) -> int:
        return self.nodes
