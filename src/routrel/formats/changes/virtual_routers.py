"""The priorities by which an interface takes part in virtual routers (VRRP), in a device's text."""

from typing import Any

from routrel.formats.changes.finding import ChangeError, no_such
from routrel.formats.changes.text_edits import EditableText, Path, at_path
from routrel.model.changes import Change
from routrel.model.virtual_routers import DEFAULT_PRIORITY


class PrioritiesSet:
    """A priority for the virtual routers of an interface that a change names, or for all of them; raises
    ``ChangeError``."""

    def __init__(self, change: Change, data: Any, interface: str):
        listed = at_path(data, ("interfaces", interface, "virtual_routers")) or []
        if not listed:
            raise ChangeError(f"{change.at} takes part in no virtual router", "", "an interface with virtual_routers")
        wanted = change.values.get("router")
        numbers = [number for number, one in enumerate(listed) if wanted is None or str(one["id"]) == str(wanted)]
        if not numbers:
            raise no_such(f"virtual router on {change.at}", str(wanted), {str(one["id"]) for one in listed})
        self.to = change.values["to"]
        self.paths: list[Path] = [
            ("interfaces", interface, "virtual_routers", number, "priority") for number in numbers
        ]
        was = {at_path(data, path) or DEFAULT_PRIORITY for path in self.paths}
        routers = dict.fromkeys(f"virtual router {listed[number]['id']}" for number in numbers)
        shown = ", ".join(map(str, sorted(was)))
        self.words = f"priority of {change.at} in {', '.join(routers)}: {shown} → {self.to or DEFAULT_PRIORITY}"

    def edit(self, text: EditableText) -> EditableText:
        """The text with the priority in all of these."""
        for path in self.paths:
            text = text.remove(path) if self.to is None else text.set(path, self.to)
        return text
