"""An answer by what it is worth: fresh, stale, declined or not there. Only a fresh one may be called true."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Generic, TypeVar

T = TypeVar("T", covariant=True)
U = TypeVar("U")


class Answer(Generic[T]):
    """Base of the four kinds."""

    @property
    def fresh(self) -> T | None:
        """The answer, if it was made from exactly the present inputs: the only one a verdict may rest on."""
        return self.value if isinstance(self, Fresh) else None

    @property
    def shown(self) -> T | None:
        """The answer to draw: the fresh one, else the last one, which must then be shown as old."""
        if isinstance(self, Fresh | Stale):
            return self.value  # type: ignore[no-any-return]
        return self.last if isinstance(self, Declined) else None

    @property
    def old(self) -> bool:
        """Whether there is something to show that is not true of the present inputs any more."""
        return isinstance(self, Stale) or (isinstance(self, Declined) and self.last is not None)

    @property
    def refusal(self) -> str:
        return self.reason if isinstance(self, Declined) else ""

    def then(self, change: Callable[[T], U]) -> Answer[U]:
        """The same kind of answer with its value changed."""
        if isinstance(self, Fresh):
            return Fresh(change(self.value))
        if isinstance(self, Stale):
            return Stale(change(self.value))
        if isinstance(self, Declined):
            return Declined(self.reason, None if self.last is None else change(self.last))
        return Missing()


@dataclass(frozen=True)
class Fresh(Answer[T]):
    """Made from exactly the present inputs."""

    value: T


@dataclass(frozen=True)
class Stale(Answer[T]):
    """Made from other inputs; to be shown as old, or not at all."""

    value: T


@dataclass(frozen=True)
class Declined(Answer[T]):
    """The present question was refused, with the reason; ``last`` is an older question's answer."""

    reason: str
    last: T | None = None


@dataclass(frozen=True)
class Missing(Answer[T]):
    """Nothing yet."""
