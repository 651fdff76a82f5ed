"""Source translation on a machine that the team runs itself."""

from typing import ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import Translating

__all__ = ["TranslatorHost"]


class TranslatorHost(Translating):
    purpose: ClassVar[str] = "source translation on a machine that the team runs itself"

    kind: Literal["translator-host"]
    offer: str = Field(description="the catalogue's offer of the machine")
    subnet: str = Field(description="the subnet it stands in, whose table leads on to a door")

    @property
    def translates(self) -> bool:
        return True

    @property
    def stands_in(self) -> tuple[str, ...]:
        return (self.subnet,)
