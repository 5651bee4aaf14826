"""Content of glTF 2.0 files (Khronos, glTF 2.0 specification): nodes, skins, meshes, animations, and accessors.

Accessors of any component type, with strides and normalised values, in buffers inside the file, beside it, or written
into it as text. Sparse accessors and compressed meshes are refused. What doesn't fit is told with its place.
"""

from __future__ import annotations

import base64
import struct
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, TypeVar

import msgspec
import numpy as np
from msgspec import Meta, Struct

from tinclock.core.errors import RulesError
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

Index = Annotated[int, Meta(ge=0)]
Item = TypeVar("Item")
_TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}


class _Part(Struct, frozen=True, kw_only=True, rename="camel"):
    """Keys are the format's, in camel case; those that nobody here reads are passed over."""


class Node(_Part, frozen=True, kw_only=True):
    """A joint, a mesh, or what holds others together."""

    name: str | None = None
    children: list[Index] = []
    mesh: Index | None = None
    skin: Index | None = None
    translation: tuple[float, float, float] = (0.0, 0.0, 0.0)
    rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    scale: tuple[float, float, float] = (1.0, 1.0, 1.0)
    matrix: Annotated[list[float], Meta(min_length=16, max_length=16)] | None = None


class Primitive(_Part, frozen=True, kw_only=True):
    """Vertices, by what they are."""

    attributes: dict[str, Index]


class Mesh(_Part, frozen=True, kw_only=True):
    """A mesh."""

    primitives: list[Primitive]


class SkinTable(_Part, frozen=True, kw_only=True):
    """Joints among the nodes, and their poses when the mesh was bound to them."""

    joints: Annotated[list[Index], Meta(min_length=1)]
    inverse_bind_matrices: Index | None = None


class Sampler(_Part, frozen=True, kw_only=True):
    """Keys of an animation."""

    input: Index
    output: Index
    interpolation: str = "LINEAR"


class Target(_Part, frozen=True, kw_only=True):
    """Target of a channel."""

    path: str
    node: Index | None = None


class ChannelTable(_Part, frozen=True, kw_only=True):
    """One thing that an animation does."""

    sampler: Index
    target: Target


class Animation(_Part, frozen=True, kw_only=True):
    """An animation."""

    channels: list[ChannelTable]
    samplers: list[Sampler]
    name: str | None = None


class Accessor(_Part, frozen=True, kw_only=True):
    """Layout of numbers in a buffer."""

    component_type: int
    count: Index
    type: str
    buffer_view: Index | None = None
    byte_offset: Index = 0
    normalized: bool = False
    sparse: Fields | None = None


class BufferView(_Part, frozen=True, kw_only=True):
    """A part of a buffer."""

    buffer: Index
    byte_offset: Index = 0
    byte_stride: Index | None = None


class Buffer(_Part, frozen=True, kw_only=True):
    """Bytes: beside the file, as text in it, or (without a uri) its binary part."""

    uri: str | None = None


MAX_NODES = 20_000


class Tables(_Part, frozen=True, kw_only=True):
    """Return the content of a file."""

    nodes: list[Node] = []
    meshes: list[Mesh] = []
    skins: list[SkinTable] = []
    animations: list[Animation] = []
    accessors: list[Accessor] = []
    buffer_views: list[BufferView] = []
    buffers: list[Buffer] = []


class Document:
    """A file's tables and buffers. Raises `RulesError` for what is no glTF 2.0 file."""

    def __init__(self, path: Path) -> None:
        self.source, self._folder = str(path), path.parent
        try:
            data = path.read_bytes()
        except OSError as error:
            raise RulesError(self.source, [f"can't be read: {error.strerror}"]) from None
        self._inside = b""
        try:
            text = data
            if data[:4] == b"glTF":
                (length,) = struct.unpack_from("<I", data, 12)
                text, rest = data[20 : 20 + length], data[20 + length :]
                self._inside = rest[8 : 8 + struct.unpack_from("<I", rest, 0)[0]] if len(rest) >= 8 else b""
            self.tables = msgspec.json.decode(text, type=Tables)
        except (struct.error, msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            raise RulesError(self.source, [f"is no glTF 2.0 file: {error}"]) from None
        self._buffers: dict[int, bytes] = {}
        self._check_nodes()

    def _check_nodes(self) -> None:
        """Raise where nodes are too many, have two parents, or are their own ancestors."""
        nodes = self.tables.nodes
        if len(nodes) > MAX_NODES:
            raise self.fail(
                "nodes", f"{len(nodes):,} of them; at most {MAX_NODES:,} are read: join what belongs together"
            )
        parent = [-1] * len(nodes)
        for number, node in enumerate(nodes):
            for child in node.children:
                self.pick(nodes, child, f"nodes[{number}].children")
                if parent[child] >= 0:
                    raise self.fail(f"nodes[{child}]", f"has two parents, nodes {parent[child]} and {number}")
                parent[child] = number
        above = [number for number, one in enumerate(parent) if one < 0]
        reached = 0
        while above:
            reached += 1
            above += nodes[above.pop()].children
        if reached < len(nodes):
            raise self.fail("nodes", "some are their own ancestors")

    def fail(self, where: str, problem: str) -> RulesError:
        """The error that says so."""
        return RulesError(self.source, [f"{where}: {problem}"])

    def pick(self, items: Sequence[Item], number: int, where: str) -> Item:
        """One of several by its number; raises `RulesError` where there is none."""
        if number >= len(items):
            raise self.fail(where, f"names number {number}, but there are {len(items)}")
        return items[number]

    def _buffer(self, number: int, where: str) -> bytes:
        if number not in self._buffers:
            uri = self.pick(self.tables.buffers, number, where).uri
            if uri is None:
                self._buffers[number] = self._inside
            elif uri.startswith("data:"):
                self._buffers[number] = base64.b64decode(uri.partition(",")[2])
            else:
                file = (self._folder / uri).resolve()
                if self._folder.resolve() not in file.parents:
                    raise self.fail(f"buffers[{number}].uri", f"{uri!r} leads out of the folder")
                self._buffers[number] = file.read_bytes()
        return self._buffers[number]

    def array(self, number: int, kind: str, where: str) -> NDArray[np.generic]:
        """An accessor as (count, width), all of it finite.

        kind : of its items, such as "VEC3"; where : names it in messages

        Raises `RulesError` for what isn't read here or doesn't fit.
        """
        accessor, name = self.pick(self.tables.accessors, number, where), f"accessors[{number}]"
        if accessor.type != kind or accessor.component_type not in _TYPES:
            given = f"{accessor.type} of type {accessor.component_type}"
            raise self.fail(
                name, f"{where} needs {kind} of one of the types {', '.join(map(str, _TYPES))}, got {given}"
            )
        if accessor.sparse is not None or accessor.buffer_view is None:
            raise self.fail(name, "sparse or compressed ones aren't read")
        view = self.pick(self.tables.buffer_views, accessor.buffer_view, name)
        item, width = np.dtype(_TYPES[accessor.component_type]), _WIDTHS[kind]
        step = view.byte_stride or item.itemsize * width
        try:
            data = np.ndarray(
                (accessor.count, width), item, self._buffer(view.buffer, f"bufferViews[{accessor.buffer_view}]"),
                view.byte_offset + accessor.byte_offset, (step, item.itemsize),
            )  # fmt: skip
        except (TypeError, ValueError, OverflowError, OSError) as error:
            raise self.fail(name, f"can't be read: {type(error).__name__}: {error}") from None
        if not np.isfinite(data).all():
            raise self.fail(name, "holds numbers that aren't finite")
        if accessor.normalized and accessor.component_type != 5126:
            return data.astype(float) / np.iinfo(item).max
        return data.copy()
