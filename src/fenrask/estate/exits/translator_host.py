"""Source translation on a machine that the team runs itself."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import Announcing, Counted, InSubnet, Translating

__all__ = ["TranslatorHost"]


class TranslatorHost(InSubnet, Announcing, Counted, Translating):
    purpose: ClassVar[str] = "source translation on a machine that the team runs itself"
    is_machine: ClassVar[bool] = True
    self_run: ClassVar[bool] = True
    count_key: ClassVar[str] = "machines"

    kind: Literal["translator-host"]
    offer: str = Field(description="the catalogue's offer of the machine")
    machines: Annotated[int, Field(strict=True, ge=1)] = Field(
        1, description="machines that run and are paid, one of them at work"
    )
    forwarding: bool = Field(True, description="whether machine and network let it forward others' packets")

    @property
    def units(self) -> int:
        return self.machines

    @property
    def translates(self) -> bool:
        return True

    @property
    def forwards(self) -> bool:
        return self.forwarding

    @property
    def fault(self) -> str:
        return "" if self.forwarding else "forwarding is off"
