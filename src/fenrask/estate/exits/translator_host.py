"""Source translation on a machine that the team runs itself."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import Translating
from fenrask.estate.values import PrefixText
from fenrask.prefixes import Prefix

__all__ = ["TranslatorHost"]


class TranslatorHost(Translating):
    purpose: ClassVar[str] = "source translation on a machine that the team runs itself"
    is_machine: ClassVar[bool] = True

    kind: Literal["translator-host"]
    offer: str = Field(description="the catalogue's offer of the machine")
    subnet: str = Field(description="the subnet it stands in, whose table leads on to a door")
    machines: Annotated[int, Field(strict=True, ge=1)] = Field(
        1, description="machines that run and are paid, one of them at work"
    )
    forwarding: bool = Field(True, description="whether machine and network let it forward others' packets")
    announces: tuple[PrefixText, ...] = Field((), description="prefixes that its routing session announces")
    session: Literal["up", "down"] = Field("up", description="whether that session stands")

    @property
    def units(self) -> int:
        return self.machines

    @property
    def translates(self) -> bool:
        return True

    @property
    def treats_all_alike(self) -> bool:
        return self.forwarding

    @property
    def in_subnets(self) -> tuple[str, ...]:
        return (self.subnet,)

    @property
    def learned(self) -> tuple[Prefix, ...]:
        return self.announces if self.session == "up" else ()

    @property
    def fault(self) -> str:
        return "" if self.forwarding else "forwarding is off"
