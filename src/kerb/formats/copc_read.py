"""Read a box or a resolution of a COPC file without reading all of it.

COPC 1.0: a LAZ 1.4 file whose chunks are octree nodes; the record ('copc', 1) holds centre, half size, spacing of the
root and where its hierarchy of 32-byte entries lies. Every claim is held against the file before it is followed.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import lazrs
import numpy as np

from kerb.core.arrays import AnyArray, Floats
from kerb.core.errors import FormatError
from kerb.formats.las_layers import check_layers
from kerb.formats.las_read import LasStream, is_fault, laszip_record

INFO = ("copc", 1)
ENTRY = struct.Struct("<4iQii")
MOST_ENTRIES = 5_000_000
MOST_PER_NODE = 50_000_000
MOST_DEPTH = 32


@dataclass(frozen=True)
class Node:
    """A node of the octree: its key (level, x, y, z), where its points lie, and how many."""

    key: tuple[int, int, int, int]
    offset: int
    size: int
    count: int


class CopcStream(LasStream):
    """The points of some octree nodes. With neither box nor resolution all are read, as from any LAZ file."""

    def __init__(self, path: Path, box: tuple[Floats, Floats] | None, spacing: float = 0.0) -> None:
        """``box`` is two plan corners (2,), ``spacing`` the coarsest allowed, both in the file's unit.

        Raises FormatError, when the hierarchy is damaged.
        """
        super().__init__(path)
        self.nodes = self._chosen(box, spacing)
        self.count = sum(node.count for node in self.nodes)
        if self.count < self.head.count:
            words = (
                f"{self.count} of {self.head.count} points were read: the parts that the box and the spacing ask for"
            )
            self.warnings.append(("copc-part", words))
        if self.count == 0:
            raise FormatError(f"{path}: no points lie in the box")

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """Records of the chosen nodes, about ``size`` at a time."""
        data = laszip_record(self.head)
        with open(self.path, "rb") as stream:
            check_layers(stream, self.head, data)
            for batch in _batches(sorted(self.nodes, key=lambda node: node.offset), size):
                packed = bytearray()
                for node in batch:
                    stream.seek(node.offset)
                    packed += stream.read(node.size)
                rows = np.empty(sum(node.count for node in batch), self.layout.record)
                table = [(node.count, node.size) for node in batch]
                try:
                    lazrs.decompress_points_with_chunk_table(bytes(packed), data, rows.view(np.uint8), table)
                except BaseException as error:
                    if not is_fault(error):
                        raise
                    raise FormatError(
                        f"{self.path}: the compressed points cannot be read ({' '.join(str(error).split())})"
                    ) from None
                yield rows

    def _chosen(self, box: tuple[Floats, Floats] | None, spacing: float) -> list[Node]:
        record = next(r.data for r in self.head.records if r.key == INFO)
        *middle, half, root_spacing = struct.unpack_from("<5d", record)
        at, length = struct.unpack_from("<2Q", record, 40)
        deepest = MOST_DEPTH
        if spacing > 0 and root_spacing > 0:
            # A node of level n is as dense as the root's spacing over 2^n; the first one fine enough is the last taken.
            deepest = max(0, int(np.ceil(np.log2(root_spacing / spacing) - 1e-9)))
        nodes = []
        for node in self._entries(int(at), int(length)):
            level, *cell = node.key
            side = 2 * half / 2**level
            low = np.array(middle[:2]) - half + np.array(cell[:2]) * side
            outside = box is not None and (np.any(low > box[1]) or np.any(low + side < box[0]))
            if level <= deepest and not outside and node.count > 0:
                nodes.append(node)
        return nodes

    def _entries(self, at: int, length: int) -> Iterator[Node]:
        """Every node of the hierarchy; a page that was visited is not visited again, so that none can loop."""
        pages, visited, total = [(at, length)], set(), 0
        # A node that claims more points than the file has would have us reserve room for them.
        most = min(MOST_PER_NODE, self.head.count)
        with open(self.path, "rb") as stream:
            while pages:
                at, length = pages.pop()
                if at in visited:
                    continue
                visited.add(at)
                if at < len(self.head.block) or length % ENTRY.size or at + length > self.head.size:
                    raise FormatError(f"{self.path}: a page of the COPC hierarchy lies outside the file")
                total += length // ENTRY.size
                if total > MOST_ENTRIES:
                    raise FormatError(f"{self.path}: the COPC hierarchy has more than {MOST_ENTRIES} entries")
                stream.seek(at)
                for *key, offset, size, count in ENTRY.iter_unpack(stream.read(length)):
                    if count == -1:
                        pages.append((offset, size))
                    elif not (0 <= key[0] <= MOST_DEPTH and 0 <= count <= most and size >= 0):
                        raise FormatError(f"{self.path}: an entry of the COPC hierarchy makes no sense")
                    elif offset + size > self.head.size:
                        raise FormatError(f"{self.path}: a node of the COPC hierarchy lies outside the file")
                    else:
                        yield Node(tuple(key), offset, size, count)


def is_copc(stream: LasStream) -> bool:
    """Whether a LAZ file carries the COPC record."""
    return any(record.key == INFO and len(record.data) >= 56 for record in stream.head.records)


def _batches(nodes: list[Node], size: int) -> Iterator[list[Node]]:
    batch: list[Node] = []
    points = 0
    for node in nodes:
        if batch and points + node.count > size:
            yield batch
            batch, points = [], 0
        batch.append(node)
        points += node.count
    if batch:
        yield batch
