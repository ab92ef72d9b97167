"""Work that is kept for the next question, within bounds."""

from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import TypeVar

Key = TypeVar("Key", bound=Hashable)
Result = TypeVar("Result")


class Kept(OrderedDict[Key, Result]):
    """Results by what was asked; past ``most`` the one asked for longest ago goes."""

    def __init__(self, most: int = 256):
        super().__init__()
        self.most = most

    def get_or_make(self, key: Key, make: Callable[[], Result]) -> Result:
        """What is kept, or what is made now and kept from here on."""
        if key in self:
            self.move_to_end(key)
            return self[key]
        result = self[key] = make()
        if len(self) > self.most:
            self.popitem(last=False)
        return result
