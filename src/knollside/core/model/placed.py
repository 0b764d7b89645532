"""Records of something at a place of the part, of which there are kinds: each kind is a type of its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Self

from pydantic import Field, SerializerFunctionWrapHandler, model_serializer, model_validator

from knollside.core.model.base import Record, Vec3

Name = Annotated[str, Field(min_length=1, max_length=80)]


class Placed(Record):
    """Somewhere on the part: a feature's id, or the surface point nearest to ``at``."""

    feature: Name | None = None
    at: Vec3 | None = None

    @model_validator(mode="after")
    def _one(self) -> Self:
        if (self.feature is None) == (self.at is None):
            raise ValueError("give either a feature or a point 'at', not both and not neither")
        return self


class Kinded(Placed):
    """One of a closed set of types told apart by ``kind``, which is always written.

    Files of the time when one record stood for all kinds may have ``numbers`` of other kinds beside a record's own:
    empty ones are passed over, any other is an unknown field.
    """

    numbers: ClassVar[frozenset[str]] = frozenset()

    @model_validator(mode="before")
    @classmethod
    def _own_numbers_only(cls, told: Any) -> Any:
        if not isinstance(told, Mapping):
            return told
        return {k: v for k, v in told.items() if k in cls.model_fields or k not in cls.numbers or not _empty(v)}

    @model_serializer(mode="wrap")
    def _with_kind(self, handler: SerializerFunctionWrapHandler) -> dict[str, Any]:
        out: dict[str, Any] = handler(self)
        return out | {"kind": self.kind}  # type: ignore[attr-defined]


def kind_in(told: Any, usual: str) -> str:
    """The kind that a mapping or a record says it is; the ``usual`` one where a mapping does not say."""
    return str(told.get("kind", usual) if isinstance(told, Mapping) else getattr(told, "kind", ""))


def _empty(value: object) -> bool:
    if isinstance(value, list | tuple):
        return all(_empty(v) for v in value)
    return value is None or value == 0
