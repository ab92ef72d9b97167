"""What became of changes that are tried as answers."""

from typing import Any, Literal

from msgspec import Struct

from routrel.model.places import Place


class ChangeProblem(Struct, frozen=True):
    """Why a change was left out; ``place`` is in the text that the change gives, where it gives one."""

    message: str
    found: str
    allowed: str
    nearest: str
    place: Place | None


class TriedChange(Struct, frozen=True):
    """One change of a list.

    ``change`` is it as data, with entries that it means written out; ``words`` is what it does, on one line. A change
    that is ``off`` was not made, nor one with an ``error``; one that does ``nothing`` is so already. ``remark`` says
    what else is to be known: that it does nothing, or changes again what another did.
    """

    change: dict[str, Any]
    words: str
    state: Literal["applied", "off", "nothing", "error"]
    remark: str
    problems: list[ChangeProblem]


class Tried(Struct, frozen=True):
    """Changes made one after the other; ``changed_files`` are those of the network's files that differ."""

    changes: list[TriedChange]
    changed_files: list[str]


class FileDifference(Struct, frozen=True):
    """The unified difference of the files that changes make, and the one that takes it back."""

    difference: str
    back_out: str


class DevicePatch(Struct, frozen=True):
    """What a trial changes on a device, as devices take it: a YANG patch (RFC 8072) and NETCONF's ``edit-config``, each
    with what takes it back. ``note`` says what of the change no published model holds, or why there is no patch."""

    device: str
    yang_patch: str
    yang_patch_back: str
    edit_config: str
    edit_config_back: str
    note: str


class DeviceText(Struct, frozen=True):
    """A device's own text, as it is edited; ``note`` is why it cannot be edited by itself, and it is empty then."""

    device: str
    text: str
    note: str
