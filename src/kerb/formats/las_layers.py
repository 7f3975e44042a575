"""Whether the chunks of a layered LAZ file can be what they claim, before memory is reserved for them.

Point formats 6 and higher are compressed in layers. A chunk begins with its first point as it is, the number of its
points and the bytes of each layer, four bytes each; the layers follow. lazrs reserves what is claimed, up to 4 GB a
layer, so a few changed bytes could take all memory. Layers of each item as in the LASzip format (from memory, and
checked on the files of ``tests/data``: the parts of every chunk add up to its size in the chunk table).
"""

from __future__ import annotations

import struct
from typing import BinaryIO

import numpy as np

from kerb.core.errors import FormatError
from kerb.formats.las_header import LasHead

LAYERED = 3
BYTES_ITEM = 14
LAYERS = {10: 9, 11: 1, 12: 2, 13: 1}
FIRST_CHUNK = 8
MOST_CHUNKS = 2_000_000


def check_layers(stream: BinaryIO, head: LasHead, data: bytes) -> None:
    """Go from chunk to chunk of a file whose compression record is ``data``; nothing happens for other compressors.

    Raises FormatError, when a chunk claims more than the file holds.
    """
    if len(data) < 34 or int.from_bytes(data[:2], "little") != LAYERED:
        return
    number = int.from_bytes(data[32:34], "little")
    if len(data) < 34 + 6 * number:
        raise FormatError(f"{head.path}: the compression record is too short")
    items = [struct.unpack_from("<3H", data, 34 + 6 * k) for k in range(number)]
    layers = sum(size if kind == BYTES_ITEM else LAYERS.get(kind, 0) for kind, size, _ in items)
    first = sum(size for _, size, _ in items)
    at, points = head.points_at + FIRST_CHUNK, 0
    for _ in range(MOST_CHUNKS):
        if points >= head.count:
            return
        stream.seek(at + first)
        start = stream.read(4 + 4 * layers)
        if len(start) < 4 + 4 * layers:
            return  # the file ends here: what reads it says so
        claimed = np.frombuffer(start, "<u4").astype(np.int64)
        size = first + len(start) + int(claimed[1:].sum())
        if at + size > head.size:
            # A file that was cut off ends within its last chunk; its layers are sound one by one.
            if int(claimed[1:].max(initial=0)) > head.size:
                raise FormatError(f"{head.path}: a compressed chunk claims more bytes than the file has")
            return
        if claimed[0] == 0:
            return
        at, points = at + size, points + int(claimed[0])
