"""Source translation on a machine that the team runs itself."""

from collections.abc import Sequence
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from fenrask.estate.exits.contract import Announcing, Counted, InSubnet, Publishing, Translating
from fenrask.estate.values import Number, unfit

__all__ = ["TranslatorHost"]


class TranslatorHost(InSubnet, Announcing, Counted, Publishing, Translating):
    purpose: ClassVar[str] = "source translation on a machine that the team runs itself"
    is_machine: ClassVar[bool] = True
    self_run: ClassVar[bool] = True
    count_key: ClassVar[str] = "machines"
    standby_key: ClassVar[str] = "standby_subnet"

    kind: Literal["translator-host"]
    offer: str = Field(description="the catalogue's offer of the machine")
    machines: Annotated[int, Field(strict=True, ge=1)] = Field(
        1, description="machines that run and are paid, one of them at work"
    )
    standby_subnet: str | None = Field(
        None, description="the subnet of a second machine, which takes over where the first is lost; default: the same"
    )
    fails_over_s: Number = Field(
        0.0, description="seconds in which nothing passes while another machine takes over; open connections break"
    )
    forwarding: bool = Field(True, description="whether machine and network let it forward others' packets")

    @model_validator(mode="after")
    def _has_a_second(self) -> Self:
        if (self.standby_subnet is not None or self.fails_over_s) and self.machines < 2:
            raise unfit("at least 2 `machines` where one is to take over from another", "Write `machines: 2`.")
        return self

    @property
    def in_subnets(self) -> tuple[str, ...]:
        return (self.subnet,) if self.standby_subnet is None else (self.subnet, self.standby_subnet)

    def left_in(self, subnets: Sequence[str]) -> dict[str, Any]:
        return {"subnet": subnets[0], "standby_subnet": None, "machines": 1, "fails_over_s": None}

    def with_units(self, number: int) -> dict[str, Any]:
        # One alone is the one that takes over: the machine at work is lost first.
        if number < 2 and (self.standby_subnet is not None or self.fails_over_s):
            return self.left_in([self.standby_subnet or self.subnet])
        return super().with_units(number) or {}

    @property
    def takes_over_s(self) -> float | None:
        return self.fails_over_s if self.machines > 1 else None

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
