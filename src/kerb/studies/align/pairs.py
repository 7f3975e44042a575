"""Matching pairs and matrices as they are typed or read from a file."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import scipy

from kerb.core.accuracy.horizontal import fitted
from kerb.core.arrays import Floats
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.rigid import Rigid

MOST_TEXT = 5_000_000
# A name and the place on what moves.
HALF_PAIR, FEWEST_PAIRS = 4, 3


def text_of(given: str, what: str) -> str:
    """The text itself, or that of the file it names. Raises InputError, when the file cannot be read."""
    if re.fullmatch(r"[-+\d.eE\s,;\[\]]+", given):
        return given
    path = Path(given)
    if "\n" in given or ";" in given or len(given) > 400 or not path.is_file():
        if re.search(r"[A-Za-z]", given) and not re.search(r"[;\s,]", given):
            raise InputError(f"{given}: no such file of {what}")
        return given
    try:
        if path.stat().st_size > MOST_TEXT:
            raise InputError(f"{path}: too large for {what}")
        return path.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"{path}: cannot be read ({error})") from None


def _numbers(cells: list[str]) -> bool:
    try:
        return bool(np.isfinite([float(cell) for cell in cells]).all())
    except ValueError:
        return False


def pairs_of(given: str) -> tuple[tuple[str, ...], Floats, Floats]:
    """Names, moving (n, 3) and fixed (n, 3) places. Raises InputError, naming the row that cannot be."""
    names: list[str] = []
    rows: list[list[float]] = []
    for number, line in enumerate(re.split(r"[\n;]", text_of(given, "pairs")), 1):
        cells = [
            cell.strip().strip('"')
            for cell in re.split(r"[,\t]" if "," in line or "\t" in line else r"\s+", line.strip())
        ]
        if not any(cells):
            continue
        if len(cells) == HALF_PAIR and _numbers(cells[1:]):
            raise InputError(f"pair {cells[0]} needs a name and six numbers: pick the same place on what stays")
        try:
            values = [float(cell) for cell in cells[-6:]]
            if len(cells) not in (6, 7) or not np.isfinite(values).all():
                raise ValueError
        except ValueError:
            if not rows and number == 1 and not names:
                continue  # a heading
            raise InputError(f"pairs, row {number}: needs a name and six numbers, has '{line.strip()[:60]}'") from None
        names.append(cells[0] if len(cells) == 7 else f"P{len(rows) + 1}")
        rows.append(values)
    if not rows:
        raise InputError("pairs: there are none")
    table = np.array(rows)
    for side, places in (("moving", table[:, :3]), ("fixed", table[:, 3:])):
        same = scipy.spatial.distance.pdist(places) == 0.0
        if same.any():
            a, b = (int(row[np.argmax(same)]) for row in np.triu_indices(len(places), 1))
            raise InputError(f"pairs {names[a]} and {names[b]} have the same {side} place")
    return tuple(names), table[:, :3], table[:, 3:]


def one_left_out(moving: Floats, fixed: Floats, scaled: bool) -> list[float | None]:
    """How far each pair lies from what the others give; None where they give nothing."""
    found: list[float | None] = []
    for k in range(len(moving)):
        rest = np.arange(len(moving)) != k
        try:
            motion, _, _ = fitted(moving[rest], fixed[rest], scaled)
        except NotDeterminable:
            found.append(None)
            continue
        found.append(float(np.linalg.norm(motion(moving[k : k + 1])[0] - fixed[k])))
    return found


def scale_of(moving: Floats, fixed: Floats) -> tuple[float, float]:
    """The scale that pairs (n, 3) tell, less one, and its 95 % bound by what they leave.

    With a scatter s of each coordinate that is t s / √Σ|a|², a being the places from their middle (least squares; Student's t of
    the 3 n − 7 left over). Raises NotDeterminable.
    """
    _, scale, left = fitted(moving, fixed, scaled=True)
    free = 3 * len(moving) - 7
    scatter = float(np.sqrt(np.sum(left**2) / free))
    arms = float(np.sqrt(np.sum((moving - moving.mean(axis=0)) ** 2)))
    return scale - 1, float(scipy.stats.t.ppf(0.975, free)) * scatter / arms


def matrix_of(given: str) -> Rigid:
    """A motion from sixteen numbers, row by row. Raises InputError, when they are none of a motion."""
    words = [word for word in re.split(r"[\s,;\[\]]+", text_of(given, "a matrix")) if word]
    try:
        values = np.array([float(word) for word in words])
    except ValueError:
        raise InputError("matrix: holds something that is no number") from None
    if len(values) != 16 or not np.isfinite(values).all():
        raise InputError(f"matrix: needs sixteen numbers, has {len(values)}")
    table = values.reshape(4, 4)
    if not np.allclose(table[3], [0, 0, 0, 1]):
        raise InputError("matrix: its last row has to be 0 0 0 1")
    scale = float(np.cbrt(np.linalg.det(table[:3, :3])))
    if not scale > 0:
        raise InputError("matrix: it mirrors, which is no motion")
    return Rigid.of(table[:3, :3] / scale, np.zeros(3), table[:3, 3], scale)


def about_place(motion: Rigid, place: Floats) -> Rigid:
    """The same motion, turning about a place, so that its shift means something there."""
    moved = motion(place[None])[0]
    return Rigid.of(motion.matrix, place, moved - place, motion.scale)
