"""A trial: a network with changes beside the network itself."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from routrel.analysis.answers.trials import ChangeProblem, DevicePatch, DeviceText, FileDifference, Tried, TriedChange
from routrel.formats.changes.applying import Applier, apply_changes
from routrel.formats.changes.difference import difference
from routrel.formats.changes.outcomes import Applied, Outcome
from routrel.formats.changes.text_edits import TextEditError
from routrel.formats.written_models import written_in_models
from routrel.formats.written_patch import patches
from routrel.model.changes import Change
from routrel.model.network import Network
from routrel.routing.solve import Solved
from routrel.solving import solve

NOT_IN_MODELS = "a part of the change stands in no published model: it has to be made by hand"


@dataclass(frozen=True)
class Trial:
    """``files`` and ``before`` are the network as it is, ``applied`` is it with the changes."""

    files: Mapping[str, bytes]
    before: Solved
    applied: Applied

    @cached_property
    def after(self) -> Solved:
        """The network with the changes, solved when first asked for."""
        return solve(self.applied.network, self.before)

    @classmethod
    def of(cls, files: Mapping[str, bytes], before: Solved, changes: Sequence[Change]) -> "Trial":
        """The changes made; those that cannot be made are left out and said."""
        return cls(files, before, apply_changes(files, before.network, changes))

    @property
    def has_errors(self) -> bool:
        return any(outcome.state == "error" for outcome in self.applied.outcomes)

    def tried(self) -> Tried:
        """What became of each change."""
        return Tried([_tried(outcome) for outcome in self.applied.outcomes], sorted(self.applied.changed_files))

    def file_difference(self) -> FileDifference:
        """Both differences of the files."""
        return FileDifference(self.difference(), self.difference(reverse=True))

    def patches(self) -> list[DevicePatch]:
        """What changes on each device, as devices take it."""
        found = patches(self.files, self.before.network, self.applied.files, self.after.network)
        return [
            DevicePatch(
                one.device,
                *((one.yang_patch(), one.yang_patch(back=True)) if one.edits else ("", "")),
                *((one.edit_config(), one.edit_config(back=True)) if one.edits else ("", "")),
                one.refusal or ("" if one.is_whole else NOT_IN_MODELS),
            )
            for one in found
        ]

    def in_models(self) -> dict[str, str]:
        """The network with the changes, written in open models."""
        return written_in_models(self.applied.files, self.applied.network)

    def difference(self, reverse: bool = False) -> str:
        """The unified difference of the files, or what takes it back."""
        return difference(self.files, self.applied.changed_files, reverse)


def _tried(outcome: Outcome) -> TriedChange:
    problems = [
        ChangeProblem(one.message, one.found, one.allowed, one.nearest, one.place or None) for one in outcome.errors
    ]
    return TriedChange(outcome.change.data(), outcome.words, outcome.state, outcome.remark, problems)


def tried_lines(tried: Tried) -> Iterator[str]:
    """Changes as lines for a terminal or a ticket: each with its number and what is to be known of it."""
    for number, one in enumerate(tried.changes, 1):
        if one.state == "error":
            continue
        off = " (off)" if one.state == "off" else ""
        yield f"{number}. {one.words}{off}{f' ({one.remark})' if one.remark else ''}"


def device_text(
    files: Mapping[str, bytes], network: Network, device: str, changes: Sequence[Change] = ()
) -> DeviceText:
    """The text of a device of a network after some changes."""
    applier = Applier(files, network)
    for number, change in enumerate(changes):
        applier.apply(number, change)
    try:
        return DeviceText(device, applier.sources.device(device).text, "")
    except TextEditError as error:
        return DeviceText(device, "", str(error))
