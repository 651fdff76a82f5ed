"""How long connections last: a mean, or a distribution."""

import math
from operator import mul
from typing import Annotated, Any, Literal, Self

from pydantic import Discriminator, Field, Tag, model_validator

from fenrask.estate.values import MOST, Number, Share, Strict, Uncertain, unfit

__all__ = ["DurationLaw", "Life", "DurationPart"]

_MOST_P95 = math.exp(1.6448536269514722**2 / 2)
"""A lognormal's p95 is mean * exp(1.645 s - s^2 / 2), largest at s = 1.645: 3.868 means."""

Simple = Literal["exponential", "fixed", "lognormal", "hyperexponential"]


class DurationPart(Strict):
    """One distribution of lives, by its mean."""

    mean: Number | None = Field(None, description="mean, s")
    shape: Simple = Field("exponential", description="the distribution")
    p95: Number | None = Field(None, description="95th percentile, s; for lognormal")
    cv: Annotated[float, Field(strict=True, ge=1, le=MOST)] | None = Field(
        None, description="standard deviation / mean, at least 1; for hyperexponential"
    )

    @property
    def mean_s(self) -> float:
        """Mean life, s."""
        return self.mean or 0.0

    @model_validator(mode="after")
    def _fitting(self) -> Self:
        self._check_shape()
        return self

    def _check_shape(self) -> None:
        if self.mean is None:
            raise unfit("a mean, s", "Add mean.")
        if (self.shape == "lognormal") != (self.p95 is not None):
            raise unfit("p95 with lognormal, and only with it", "Add p95, or take another shape.")
        if (self.shape == "hyperexponential") != (self.cv is not None):
            raise unfit("cv with hyperexponential, and only with it", "Add cv, or take another shape.")
        if self.p95 is not None and not 0 < self.p95 <= self.mean * _MOST_P95:
            raise unfit("a p95 that a lognormal of this mean can have: above 0, at most 3.868 means")


class DurationShare(DurationPart):
    """One part of a mixture: a distribution and its share."""

    share: Share = Field(description="share of the connections that last so")


class DurationLaw(DurationPart):
    """How long connections last, as a distribution: of one shape, a mixture of several, or as measured."""

    shape: Literal[Simple, "mixture", "measured"] = Field("exponential", description="the distribution")  # type: ignore[assignment]
    parts: dict[str, DurationShare] = Field({}, description="for mixture: distributions by name, shares that sum to 1")
    values: tuple[Number, ...] = Field((), description="for measured: durations in s, each as likely as any other")
    shares: tuple[Share, ...] = Field(
        (), description="for measured: instead the share of the connections that last each of `values`, which sum to 1"
    )

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
