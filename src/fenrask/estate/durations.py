"""How long connections last: a mean, or a distribution."""

from collections.abc import Hashable
from dataclasses import dataclass
from functools import cached_property
from operator import mul
from typing import Annotated, Any, Self

from pydantic import Discriminator, Field, GetCoreSchemaHandler, Tag, model_validator
from pydantic_core import CoreSchema, core_schema

from fenrask.estate.values import MOST, Number, Share, Strict, Uncertain, unfit
from fenrask.teletraffic.holding.shapes import SHAPES

__all__ = ["DurationLaw", "Life", "DurationPart"]


@dataclass(frozen=True)
class _OfAnyShape:
    """Validates the word for a law, among all that are in `SHAPES` when a model's validator is built, and some more."""

    more: tuple[str, ...] = ()

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.literal_schema([*SHAPES, *self.more])


class DurationPart(Strict):
    """One distribution of lives, by its mean."""

    mean: Number | None = Field(None, description="mean, s")
    shape: Annotated[str, _OfAnyShape()] = Field("exponential", description="the distribution")
    p95: Number | None = Field(None, description="95th percentile, s; for lognormal")
    cv: Annotated[float, Field(strict=True, ge=1, le=MOST)] | None = Field(
        None, description="standard deviation / mean, at least 1; for hyperexponential"
    )

    @property
    def mean_s(self) -> float:
        """Mean life, s."""
        return self.mean or 0.0

    @property
    def figure(self) -> float | None:
        """What the law of this shape needs beside its mean; None where it needs nothing."""
        key = SHAPES[self.shape].figure if self.shape in SHAPES else ""
        stated: float | None = getattr(self, key) if key else None
        return stated

    @model_validator(mode="after")
    def _fitting(self) -> Self:
        self._check_shape()
        return self

    def _check_shape(self) -> None:
        if self.mean is None:
            raise unfit("a mean, s", "Add mean.")
        by_figure: dict[str, list[str]] = {}
        for name, shape in SHAPES.items():
            if shape.figure:
                by_figure.setdefault(shape.figure, []).append(name)
        for figure, names in by_figure.items():
            if (self.shape in names) != (getattr(self, figure) is not None):
                expected = f"{figure} with {' or '.join(names)}, and only with it"
                raise unfit(expected, f"Add {figure}, or take another shape.")
        own = SHAPES[self.shape]
        if self.figure is not None and not own.fits(self.mean, self.figure):
            raise unfit(own.expected)


class DurationShare(DurationPart):
    """One part of a mixture: a distribution and its share."""

    share: Share = Field(description="share of the connections that last so")


class DurationLaw(DurationPart):
    """How long connections last, as a distribution: of one shape, a mixture of several, or as measured."""

    shape: Annotated[str, _OfAnyShape(("mixture", "measured"))] = Field("exponential", description="the distribution")
    parts: dict[str, DurationShare] = Field({}, description="for mixture: distributions by name, shares that sum to 1")
    values: tuple[Number, ...] = Field((), description="for measured: durations in s, each as likely as any other")
    shares: tuple[Share, ...] = Field(
        (), description="for measured: instead the share of the connections that last each of `values`, which sum to 1"
    )

    @cached_property
    def key(self) -> Hashable:
        """What two laws that say the same have in common."""
        return (self.shape, self.mean, self.p95, self.cv, self.values, self.shares, tuple(self.parts.values()))

    @property
    def mean_s(self) -> float:
        if self.shape == "mixture":
            return sum(part.share * part.mean_s for part in self.parts.values())
        if self.shares:
            return float(sum(map(mul, self.shares, self.values))) / sum(self.shares)
        return sum(self.values) / len(self.values) if self.values else super().mean_s

    def _check_shape(self) -> None:
        if (self.shape == "mixture") != bool(self.parts):
            raise unfit("parts with mixture, and only with it", "Add parts, or take another shape.")
        if (self.shape == "measured") != bool(self.values):
            raise unfit("values with measured, and only with it", "Add values, or take another shape.")
        if self.shares and (len(self.shares) != len(self.values) or abs(sum(self.shares) - 1) > 1e-6):
            raise unfit("a share for each of `values`, which sum to 1")
        if self.parts and abs(sum(part.share for part in self.parts.values()) - 1) > 1e-6:
            raise unfit("parts whose shares sum to 1")
        if not self.parts and not self.values:
            super()._check_shape()
        elif (self.mean, self.p95, self.cv) != (None, None, None):
            raise unfit("no mean, p95 or cv beside parts or values", "They follow from the parts or values.")


def _life_shape(value: Any) -> str:
    law = isinstance(value, DurationLaw) or (isinstance(value, dict) and "likely" not in value)
    return "law" if law else "mean"


Life = Annotated[Annotated[Uncertain, Tag("mean")] | Annotated[DurationLaw, Tag("law")], Discriminator(_life_shape)]
"""A mean in s (exponential), or a distribution."""
