"""Meshes in OBJ, STL, PLY and OFF, read and written through trimesh, by element where the file has groups."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.errors import FormatError, InputError, OutputError
from kerb.core.geometry.mesh import Element, TriangleMesh, checked, joined
from kerb.core.units import FILE_UNITS, LengthUnit
from kerb.formats.ply import read_ply_head
from kerb.formats.written import placed_when_complete, refuse_others

LARGEST = 3_000_000_000


def read_mesh(path: Path) -> TriangleMesh:
    """Read a mesh; faces of more than three corners are cut into triangles.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, naming the file and what is wrong.
    """
    suffix = path.suffix.lower()
    try:
        size = path.stat().st_size
    except OSError as error:
        raise InputError(f"{path}: {error.strerror or error}") from None
    if size > LARGEST:
        raise FormatError(f"{path}: larger than {LARGEST // 10**9} GB; too large for a mesh")
    if size == 0:
        raise FormatError(f"{path}: is empty")
    if suffix == ".obj":
        return _obj(path)
    if suffix == ".stl":
        _check_stl(path, size)
    if suffix == ".ply":
        head = read_ply_head(path)
        if not head.faces:
            raise FormatError(f"{path}: has no faces; bring it in as a cloud")
        _check_ply_room(head, size)
    if suffix == ".off":
        _check_off(path)
    return _by_trimesh(path, suffix[1:])


def _by_trimesh(path: Path, kind: str) -> TriangleMesh:
    import trimesh

    try:
        with open(path, "rb") as stream:
            loaded: Any = trimesh.load_mesh(stream, file_type=kind, process=False, skip_materials=True)
        vertices, faces = np.asarray(loaded.vertices, float), np.asarray(loaded.faces)
    except Exception as error:  # trimesh lets through whatever its parsers meet in a damaged file
        raise FormatError(f"{path}: cannot be read as {kind.upper()} ({_words(error)})") from None
    return _named(checked(vertices, faces, str(path)), path.stem)


def _named(mesh: TriangleMesh, name: str) -> TriangleMesh:
    return TriangleMesh(mesh.vertices, mesh.triangles, (Element(name, "mesh", 0, len(mesh.triangles)),))


def _obj(path: Path) -> TriangleMesh:
    """Vertices and faces of an OBJ, an element for each object or group. Materials name other files and are not read.

    By hand, because general readers drop groups, follow material files, and take indices that point nowhere.
    """
    vertices: list[tuple[float, float, float]] = []
    groups: dict[str, list[tuple[int, int, int]]] = {}
    faces = groups.setdefault(path.stem, [])
    with open(path, encoding="utf-8", errors="replace") as stream:
        for number, line in enumerate(stream, 1):
            word, _, rest = line.partition(" ")
            try:
                if word == "v":
                    x, y, z = (float(value) for value in rest.split()[:3])
                    vertices.append((x, y, z))
                elif word == "f":
                    faces += _fan([_corner(item, len(vertices)) for item in rest.split()])
                elif word in ("o", "g") and rest.strip():
                    faces = groups.setdefault(rest.strip(), [])
            except (ValueError, IndexError) as error:
                raise FormatError(f"{path}: line {number}: {error}") from None
    parts = []
    table = np.array(vertices, float).reshape(-1, 3)
    for name, triangles in groups.items():
        if not triangles:
            continue
        corners = np.array(triangles)
        if corners.max() >= len(table):
            raise FormatError(f"{path}: a face of '{name}' names vertex {int(corners.max()) + 1} of {len(table)}")
        used, renumbered = np.unique(corners, return_inverse=True)
        parts.append(_named(checked(table[used], renumbered.reshape(-1, 3), str(path)), name))
    if not parts:
        raise FormatError(f"{path}: holds no faces")
    return joined(parts)


def _corner(text: str, known: int) -> int:
    index = int(text.split("/")[0])
    if index == 0 or index < -known:
        raise ValueError(f"a face names vertex {index}, which is not there")
    return index - 1 if index > 0 else known + index


def _fan(corners: list[int]) -> list[tuple[int, int, int]]:
    if len(corners) < 3:
        raise ValueError("a face has fewer than three corners")
    return [(corners[0], corners[k], corners[k + 1]) for k in range(1, len(corners) - 1)]


def _check_stl(path: Path, size: int) -> None:
    """A binary STL says how many triangles it has; one that is neither text nor as long as it says is refused."""
    with open(path, "rb") as stream:
        start = stream.read(84)
    if start.lstrip()[:5].lower() == b"solid" and b"\0" not in start:
        return
    claimed = int.from_bytes(start[80:84], "little") if len(start) == 84 else 0
    if size < 84 or size < 84 + 50 * claimed:
        raise FormatError(
            f"{path}: ends too early: it says {claimed} triangles, there is room for {max(size - 84, 0) // 50}"
        )


def _check_ply_room(head: Any, size: int) -> None:
    least = 0
    for element in head.elements:
        per = sum(np.dtype(listed or kind).itemsize if head.order else 2 for _, kind, listed in element.properties)
        least += element.count * max(per, 1)
    if head.at + least > size + 2:
        raise FormatError(f"{head.path}: ends too early: its head claims more than the {size} bytes hold")


def _check_off(path: Path) -> None:
    with open(path, "rb") as stream:
        start = stream.read(4096).decode("latin-1")
    text = re.sub(r"#.*", "", start).split()
    if not text or not text[0].upper().endswith("OFF"):
        raise FormatError(f"{path}: not an OFF file (it does not start with 'OFF')")
    numbers = [int(word) for word in text[1:3] if word.isdigit()]
    if len(numbers) < 2 or sum(numbers) * 4 > path.stat().st_size:
        raise FormatError(f"{path}: claims more vertices and faces than the file can hold")


def write_mesh(path: Path, mesh: TriangleMesh, unit: LengthUnit) -> list[tuple[str, str]]:
    """Write OBJ (elements as groups, unit in a comment), binary STL (unit in its head), PLY or OFF, by the ending.

    Coordinates of an STL are single precision: they are written relative to a corner that its head names when they
    would lose more than a tenth of a millimetre, and a small table beside the file says it for other readers. Returns notes.

    Raises OutputError, when there is nothing to write or the folder cannot be written.
    """
    if not len(mesh.triangles):
        raise OutputError(f"{path}: nothing to write")
    writers = {".obj": _write_obj, ".stl": _write_stl, ".ply": _write_ply, ".off": _write_off}
    if path.suffix.lower() not in writers:
        raise OutputError(f"{path}: a mesh is written as .obj, .stl, .ply or .off")
    corner = _stl_origin(mesh, unit) if path.suffix.lower() == ".stl" else None
    beside = path.with_name(f"{path.stem}.origin.csv")
    if corner is not None:
        refuse_others(path, beside)
    with placed_when_complete(path) as partial:
        writers[path.suffix.lower()](partial, mesh, unit)
    if corner is None:
        return []
    with placed_when_complete(beside) as partial:
        numbers = ",".join(f"{value:.0f}" for value in corner)
        partial.write_text(f"easting,northing,elevation,unit\n{numbers},{unit.code}\n", encoding="utf-8")
    shown = ", ".join(f"{value:.0f}" for value in corner)
    words = f"STL has single precision: written relative to {shown} {unit.code}, as its head and {beside.name} say"
    return [("moved-origin", words)]


def _stl_origin(mesh: TriangleMesh, unit: LengthUnit) -> np.ndarray | None:
    """The corner that an STL is written relative to; None where its numbers are small enough as they are."""
    if np.abs(mesh.vertices).max() * 2**-24 <= 0.0001 / unit.metres:
        return None
    return np.floor(mesh.vertices.min(axis=0))


def _write_obj(path: Path, mesh: TriangleMesh, unit: LengthUnit) -> None:
    with open(path, "w", encoding="utf-8", newline="\n") as out:
        out.write(f"# written by Kerb\n# unit {unit.code}\n")
        np.savetxt(out, mesh.vertices, fmt="v %.6f %.6f %.6f")
        for element in mesh.elements or (Element("mesh", "", 0, len(mesh.triangles)),):
            out.write(f"g {' '.join(element.name.split()) or 'mesh'}\n")
            some = mesh.triangles[element.first : element.first + element.count] + 1
            np.savetxt(out, some, fmt="f %d %d %d")


def _write_stl(path: Path, mesh: TriangleMesh, unit: LengthUnit) -> None:
    vertices, head = mesh.vertices, f"Kerb unit {unit.code}"
    corner = _stl_origin(mesh, unit)
    if corner is not None:
        vertices = vertices - corner
        head += " from " + " ".join(f"{value:.0f}" for value in corner)
    corners = vertices[mesh.triangles]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    rows = np.zeros(len(corners), np.dtype([("normal", "<f4", (3,)), ("corner", "<f4", (3, 3)), ("spare", "<u2")]))
    rows["normal"], rows["corner"] = normal, corners
    with open(path, "wb") as out:
        out.write(head.encode("ascii")[:80].ljust(80) + len(rows).to_bytes(4, "little"))
        out.write(rows.tobytes())


def _write_ply(path: Path, mesh: TriangleMesh, unit: LengthUnit) -> None:
    head = [
        "ply", "format binary_little_endian 1.0", f"comment unit {unit.code}",
        f"element vertex {len(mesh.vertices)}", *(f"property double {axis}" for axis in "xyz"),
        f"element face {len(mesh.triangles)}", "property list uchar int vertex_indices", "end_header",
    ]  # fmt: skip
    rows = np.zeros(len(mesh.triangles), np.dtype([("count", "u1"), ("corner", "<i4", (3,))]))
    rows["count"], rows["corner"] = 3, mesh.triangles
    with open(path, "wb") as out:
        out.write(("\n".join(head) + "\n").encode("ascii"))
        out.write(mesh.vertices.astype("<f8").tobytes() + rows.tobytes())


def _write_off(path: Path, mesh: TriangleMesh, unit: LengthUnit) -> None:
    with open(path, "w", encoding="ascii", newline="\n") as out:
        out.write(f"OFF\n# unit {unit.code}\n{len(mesh.vertices)} {len(mesh.triangles)} 0\n")
        np.savetxt(out, mesh.vertices, fmt="%.6f")
        np.savetxt(out, mesh.triangles, fmt="3 %d %d %d")


def unit_said(path: Path) -> LengthUnit | None:
    """The unit that a comment at the start of a mesh file names, as Kerb writes it; None for any other file."""
    with open(path, "rb") as stream:
        start = stream.read(200).decode("latin-1")
    match = re.search(r"(?:^|\n)(?:# unit|Kerb unit) (\S+)", start)
    return FILE_UNITS.get(match[1]) if match else None


def stl_corner(path: Path) -> np.ndarray | None:
    """The corner, (3,), that the vertices of a binary STL written by Kerb are relative to; None for any other."""
    with open(path, "rb") as stream:
        head = stream.read(80).decode("latin-1")
    match = re.match(r"Kerb unit \S+ from (-?\d+) (-?\d+) (-?\d+)", head)
    return np.array([float(match[k]) for k in (1, 2, 3)]) if match else None


def _words(error: BaseException) -> str:
    return " ".join(str(error).split())[:160]
