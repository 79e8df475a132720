"""What the numbers in addresses may be."""

from __future__ import annotations

from django.urls import register_converter


class IdConverter:
    """A number that a database can hold: longer ones name nothing, and are not found."""

    regex = "[0-9]{1,18}"

    def to_python(self, value: str) -> int:
        """The number."""
        return int(value)

    def to_url(self, value: int) -> str:
        """As it stands in an address."""
        return str(value)


def register() -> None:
    """Let addresses use them; called before the first address is read."""
    register_converter(IdConverter, "id")
