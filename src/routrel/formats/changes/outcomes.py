"""What became of changes: each in words, with why not where it was not made, and the network that came out."""

from dataclasses import dataclass
from typing import Literal

from routrel.formats.changes.finding import ChangeError
from routrel.formats.errors import InputError, LoadError
from routrel.model.changes import Change
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.model.unchanged import taking_over

State = Literal["applied", "off", "nothing", "error"]


@dataclass(frozen=True)
class Outcome:
    """What became of one change: in words, with what it changed from.

    ``remark`` says what else is to be known of it: that it does nothing, or changes again what another changed.
    ``errors`` are why it was left out. ``change`` is the change with the entry it means written out, so that it means
    the same entry in another state of the network.
    """

    change: Change
    words: str
    state: State
    remark: str = ""
    errors: tuple[InputError, ...] = ()


@dataclass(frozen=True)
class Applied:
    """A network with changes, its files with the texts of what changed, and what became of each change.

    ``changed_files`` are the network's own files that differ, whole.
    """

    network: Network
    files: dict[str, bytes]
    outcomes: tuple[Outcome, ...]
    changed_files: dict[str, str]


def errors_of(change: Change, error: Exception) -> tuple[InputError, ...]:
    """An error as errors at the line of the change."""
    if isinstance(error, LoadError):
        if change.verb == "edit":
            return tuple(error.errors)
        return tuple(replace(one, place=change.place) for one in error.errors)
    if isinstance(error, ChangeError):
        return (InputError(change.place, error.message, error.found, error.allowed, error.closest),)
    return (InputError(change.place, str(error)),)


def taken_over(network: Network, changed: Network) -> Network:
    """A network with changes in which all that none of them reached is the same objects as before."""
    devices = {
        name: taking_over(network.devices[name], device) if name in network.devices else device
        for name, device in changed.devices.items()
    }
    return replace(changed, devices=devices)
