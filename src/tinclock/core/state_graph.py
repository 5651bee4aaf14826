"""An object graph as plain data: numbers, text, arrays, and objects of kinds that the reader lists.

The data holds a list of nodes. A node is `[tag, ...]`; a value inside one is a number, text, bytes, None, or `[place]`
of another node. An object's node names its kind by its place in the reader's own tuple of types, so data can neither
name nor import anything, and fields are set on new objects alone.
"""

from __future__ import annotations

from collections import OrderedDict, deque
from enum import Enum
from types import MemberDescriptorType
from typing import TYPE_CHECKING, Any, Final

import msgspec
import numpy as np

from tinclock.core.packed import memory_of

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

DTYPES: Final = frozenset({"<f8", "<f4", "<f2", "<i8", "<i4", "<i2", "|i1", "|u1", "<u4", "<u8", "|b1"})
"""Types of numbers that an array in a graph can have."""
NUMBER_TYPES: Final = {"float16": np.float16, "float32": np.float32, "float64": np.float64, "int16": np.int16}
"""Types that an object can hold by themselves, as the type of the numbers that it stores."""
WHOLES: Final = range(-(2**63), 2**64)
"""Whole numbers that MessagePack holds; longer ones are text."""
DEEPEST: Final = 200
"""Maximum depth of nodes within nodes."""
PLAIN: Final = frozenset({type(None), bool, float, str, bytes})

_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder(list[list[Any]]).decode


class GraphWriter:
    """Puts a graph down.

    kinds : types of objects, in the reader's order
    packed : types that one MessagePack value holds whole, since reading it gives the same record
    states : what stands for an object of a type; by default what the type's `__getstate__` returns
    stand_ins : types that the reader has, each with its name there
    """

    def __init__(
        self, kinds: Sequence[type], packed: tuple[type, ...], states: Mapping[type, Callable[[Any], Any]],
        stand_ins: Mapping[type, str],
    ) -> None:  # fmt: skip
        self._kinds = {kind: place for place, kind in enumerate(kinds)}
        self._packed, self._states, self._stand_ins = packed, states, stand_ins
        self._nodes: list[list[Any]] = []
        self._places: dict[int, int] = {}
        self._held: list[Any] = []

    def graph(self, root: Any) -> bytes:
        """Return the whole graph of an object as bytes."""
        self._put(root)
        return _encode(self._nodes)

    def _put(self, value: Any) -> Any:
        """Return what stands for a value: itself, or the place of its node."""
        kind = type(value)
        if kind in PLAIN or (kind is int and value in WHOLES):
            return value
        place = self._places.get(id(value))
        if place is None:
            place = self._places[id(value)] = len(self._nodes)
            self._held.append(value)  # or another object could get its id
            self._nodes.append([])
            self._nodes[place] = self._node(kind, value)
        return [place]

    def _node(self, kind: type, value: Any) -> list[Any]:
        put = self._put
        write = _WRITE.get(kind)
        if write is not None:
            return write(value, put)
        if isinstance(value, np.generic):
            return ["scalar", value.dtype.str, value.tobytes()]
        if isinstance(value, type):
            return ["type", value.__name__]
        if kind in self._stand_ins:
            return ["stand-in", self._stand_ins[kind]]
        number = self._kinds.get(kind)
        if number is None:
            raise TypeError(f"{kind.__module__}.{kind.__name__} is not listed as part of a match's state")
        if isinstance(value, self._packed):
            return ["packed", number, msgspec.msgpack.encode(value)]
        if isinstance(value, Enum):
            return ["enum", number, value.value]
        if isinstance(value, msgspec.Struct):
            return ["record", number, [[name, put(held)] for name, held in _told(value)]]
        if isinstance(value, tuple):
            return ["named", number, [put(item) for item in value]]
        state = self._states.get(kind, _state_of)(value)
        return ["object", number, put(state)]


class GraphReader:
    """Makes the graph again. kinds, packed : as for the writer; stand_ins : by name, what the reader has."""

    def __init__(self, kinds: Sequence[type], packed: tuple[type, ...], stand_ins: Mapping[str, Any]) -> None:
        self._kinds, self._packed, self._stand_ins = kinds, packed, stand_ins
        self._nodes: list[list[Any]] = []
        self._made: dict[int, Any] = {}
        self._under_way: set[int] = set()

    def root(self, data: bytes) -> Any:
        """Return the first object of a graph. Raises `ValueError`, and whatever constructors raise for wrong data."""
        self._nodes = _decode(data)
        return self._get([0])

    def _get(self, value: Any) -> Any:
        if type(value) is not list:
            return value
        (place,) = value
        if place in self._made:
            return self._made[place]
        if type(place) is not int or not 0 <= place < len(self._nodes):
            raise ValueError(f"node {place!r} of {len(self._nodes)}")
        if place in self._under_way or len(self._under_way) > DEEPEST:
            raise ValueError(f"node {place} holds itself, or lies more than {DEEPEST} nodes deep")
        self._under_way.add(place)
        made = self._make(place, *self._nodes[place])
        self._under_way.discard(place)
        self._made[place] = made
        return made

    def _make(self, place: int, tag: str, *parts: Any) -> Any:
        get = self._get
        if tag in _FILLED:
            make, fill = _FILLED[tag]
            held = self._made[place] = make(*parts[1:])
            fill(held, [get(item) for item in parts[0]])
            return held
        if tag in _READ:
            return _READ[tag](get, *parts)
        if tag == "stand-in":
            return self._stand_ins[parts[0]]
        kind = self._kinds[_whole(parts[0])]
        if tag == "packed" and issubclass(kind, self._packed):
            return msgspec.msgpack.decode(parts[1], type=kind)
        if tag == "enum" and issubclass(kind, Enum):
            return kind(parts[1])
        if tag == "record" and issubclass(kind, msgspec.Struct):
            return kind(**{name: get(item) for name, item in parts[1]})
        if tag == "named" and issubclass(kind, tuple):
            return kind(*[get(item) for item in parts[1]])
        if tag == "object" and not issubclass(kind, tuple | msgspec.Struct | Enum):
            one = self._made[place] = object.__new__(kind)
            _set_state(one, get(parts[1]))
            return one
        raise ValueError(f"a node of tag {tag!r} for {kind.__name__}")


def _whole(value: Any) -> int:
    if type(value) is not int or value < 0:
        raise ValueError(f"expected a whole number from 0, got {value!r}")
    return value


def _told(record: msgspec.Struct) -> list[tuple[str, Any]]:
    """Return the fields of a record that are not their defaults, so that defaults are the very objects again."""
    kind = type(record)
    fields = kind.__struct_fields__
    defaults = (msgspec.NODEFAULT,) * (len(fields) - len(kind.__struct_defaults__)) + kind.__struct_defaults__
    return [
        (name, held) for name, default in zip(fields, defaults, strict=True)
        if (held := getattr(record, name)) is not default
    ]  # fmt: skip


def _state_of(one: Any) -> Any:
    return one.__getstate__()


def _set_state(one: Any, state: Any) -> None:
    """Give a new object its fields: none that its type has as a method, property or constant."""
    parts = state if isinstance(state, tuple) else (state,)
    for fields in parts:
        for name in fields if isinstance(fields, dict) else ():
            there = getattr(type(one), name, None)
            if there is not None and not isinstance(there, MemberDescriptorType):
                raise ValueError(f"{type(one).__name__}.{name} is no field")
    restore = getattr(one, "__setstate__", None)
    if restore is not None:
        restore(state)
        return
    for fields in parts:
        for name, value in (fields or {}).items():
            object.__setattr__(one, name, value)


def _array(value: Any, put: Any) -> list[Any]:
    kept = value.dtype.str
    if kept not in DTYPES:
        raise TypeError(f"an array of {value.dtype} is not part of a match's state")
    return ["array", kept, list(value.shape), value.tobytes(), value.flags.writeable]


def _read_array(get: Any, dtype: str, shape: list[int], data: bytes, writeable: bool) -> Any:
    array = np.frombuffer(data, _dtype(dtype)).reshape([_whole(size) for size in shape]).copy()
    array.flags.writeable = bool(writeable)
    return array


def _dtype(name: str) -> Any:
    if name not in DTYPES:
        raise ValueError(f"numbers of type {name!r}")
    return np.dtype(name)


def _each(items: Any, put: Any) -> list[Any]:
    """Return what stands for each item. Most are plain and stand for themselves, which needs no call."""
    return [item if type(item) in PLAIN else put(item) for item in items]


def _pairs(held: Any, put: Any) -> list[Any]:
    return _each([item for pair in held.items() for item in pair], put)


def _fill_pairs(held: Any, flat: list[Any]) -> None:
    held.update(zip(flat[::2], flat[1::2], strict=True))


_WRITE: Final[dict[type, Callable[[Any, Callable[[Any], Any]], list[Any]]]] = {
    int: lambda value, put: ["whole", str(value)],
    tuple: lambda value, put: ["tuple", _each(value, put)],
    list: lambda value, put: ["list", _each(value, put)],
    dict: lambda value, put: ["dict", _pairs(value, put)],
    OrderedDict: lambda value, put: ["ordered", _pairs(value, put)],
    set: lambda value, put: ["set", _each(value, put)],
    frozenset: lambda value, put: ["frozenset", _each(value, put)],
    deque: lambda value, put: ["deque", _each(value, put), value.maxlen],
    np.ndarray: _array,
    memoryview: lambda value, put: ["memory", put(value.obj)],
}
"""Writers of nodes that every graph can have."""
_FILLED: Final[dict[str, tuple[Callable[..., Any], Callable[[Any, list[Any]], None]]]] = {
    "list": (list, list.extend),
    "dict": (dict, _fill_pairs),
    "ordered": (OrderedDict, _fill_pairs),
    "set": (set, set.update),
    "deque": (lambda most: deque(maxlen=most), deque.extend),
}
"""Containers that are made empty and filled, since what they hold can hold them."""
_READ: Final[dict[str, Callable[..., Any]]] = {
    "whole": lambda get, text: int(text),
    "tuple": lambda get, items: tuple([get(item) for item in items]),
    "frozenset": lambda get, items: frozenset([get(item) for item in items]),
    "array": _read_array,
    "memory": lambda get, of: memory_of(get(of)),
    "scalar": lambda get, dtype, data: np.frombuffer(data, _dtype(dtype))[0],
    "type": lambda get, name: NUMBER_TYPES[name],
}
