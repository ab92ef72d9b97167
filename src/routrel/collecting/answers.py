"""What a device answered: its files, or why it could not be had."""

from dataclasses import dataclass, field

MOST_BYTES = 32 * 1024 * 1024
"""Of one answer; what is longer is refused, not cut."""


class UnreachableError(Exception):
    """A device that cannot be had, with the reason in a phrase."""


@dataclass(frozen=True, slots=True)
class Answer:
    """Files by their name in the device's folder; ``missing`` are files that could not be taken, with the reason."""

    files: dict[str, bytes] = field(default_factory=dict)
    missing: dict[str, str] = field(default_factory=dict)
