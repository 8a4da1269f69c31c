"""A sequence that grows at its end in constant time, and of which every earlier length stays as it
was."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Generic, TypeVar, overload

Item = TypeVar("Item")


class Grown(Sequence[Item], Generic[Item]):
    """Immutable to its holders: `with_item` gives a longer one, which shares the items. Where two
    grow out of one, the second copies."""

    __slots__ = ("_items", "_length")

    def __init__(self, items: Iterable[Item] = ()) -> None:
        self._items = list(items)
        self._length = len(self._items)

    def with_item(self, item: Item) -> "Grown[Item]":
        made: Grown[Item] = Grown.__new__(Grown)
        shared = self._length == len(self._items)
        made._items = self._items if shared else self._items[: self._length]
        made._items.append(item)
        made._length = self._length + 1

        return made

    def __len__(self) -> int:
        return self._length

    @overload
    def __getitem__(self, place: int) -> Item: ...
    @overload
    def __getitem__(self, place: slice) -> Sequence[Item]: ...
    def __getitem__(self, place: int | slice) -> Item | Sequence[Item]:
        if isinstance(place, slice):
            return self._items[: self._length][place]
        if not -self._length <= place < self._length:
            raise IndexError(place)

        return self._items[place if place >= 0 else self._length + place]

    def __iter__(self) -> Iterator[Item]:
        return iter(self._items[: self._length])

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Grown) and list(self) == list(other)

    def __hash__(self) -> int:
        return hash(tuple(self))
