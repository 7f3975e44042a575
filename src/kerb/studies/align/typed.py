"""Motions as they are typed: a matrix, or shift, turn, axis and angle, scale and place; and said again in each way."""

from __future__ import annotations

import re

import numpy as np
from scipy.spatial.transform import Rotation

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry.rigid import Rigid
from kerb.studies.align.pairs import matrix_of, text_of
from kerb.studies.outcome import Column, Table

# Words, how many numbers follow each, and what they are.
WORDS = {
    "shift": (3, "east, north, up"), "axis": (4, "east, north, up, angle in degrees"),
    "about": (3, "easting, northing, elevation"), "scale": (1, "parts in a million over 1"),
}  # fmt: skip
AXES = "xyz"
PPM = 1e-6


def typed_motion(given: str, middle: Floats | None = None) -> Rigid:
    """A typed motion, or one in a file of that name: sixteen numbers of a matrix, or words with numbers in any order:

    ``shift E N U``; ``turn zyx A B C`` (degrees about the named fixed axes, one after the other as they stand; capitals: about
    its own axes); ``axis E N U ANGLE``; ``scale PPM``; ``about E N Z`` (else about ``middle``, that of what moves); ``inverse``.

    Raises InputError, when it cannot be read or turns by both ways.
    """
    text = text_of(given, "a motion")
    words = [word for word in re.split(r"[\s,;]+", text) if word]
    if not words or not re.match(r"[a-zA-Z]", words[0]):
        return matrix_of(given)
    rotation, scale, inverse = np.eye(3), 1.0, False
    shift, about = np.zeros(3), np.zeros(3) if middle is None else middle
    seen: set[str] = set()
    while words:
        word = words.pop(0)
        key = word.lower()
        turns = "turn" if key in ("turn", "axis") else key
        if turns in seen:
            raise InputError(f"motion: '{word}' stands twice, or beside another turn")
        seen.add(turns)
        if key == "inverse":
            inverse = True
        elif key == "turn":
            order = words.pop(0) if words else ""
            if len(order) != 3 or set(order.lower()) - set(AXES) or order not in (order.lower(), order.upper()):
                raise InputError(
                    f"motion: 'turn' needs an order of axes such as zyx (fixed) or ZYX (its own), not '{order}'"
                )
            if order[0] == order[1] or order[1] == order[2]:
                raise InputError(f"motion: in the order '{order}' an axis follows itself")
            rotation = Rotation.from_euler(
                order, _numbers(words, 3, word, "three angles in degrees"), degrees=True
            ).as_matrix()
        elif key in WORDS:
            values = _numbers(words, WORDS[key][0], word, WORDS[key][1])
            if key == "shift":
                shift = values
            elif key == "about":
                about = values
            elif key == "scale":
                scale = 1.0 + PPM * float(values[0])
            else:
                length = float(np.linalg.norm(values[:3]))
                if length == 0.0:
                    raise InputError("motion: an axis of no length has no direction")
                rotation = Rotation.from_rotvec(np.radians(values[3]) * values[:3] / length).as_matrix()
        else:
            raise InputError(f"motion: '{word}' is none of shift, turn, axis, about, scale, inverse")
    motion = Rigid.of(rotation, about, shift, scale)
    return motion.inverse() if inverse else motion


def _numbers(words: list[str], count: int, word: str, what: str) -> Floats:
    found = []
    for _ in range(count):
        try:
            found.append(float(words.pop(0)))
        except (ValueError, IndexError):
            raise InputError(f"motion: '{word}' needs {what}") from None
    if not np.isfinite(found).all():
        raise InputError(f"motion: '{word}' holds a number that is none")
    return np.array(found)


def forms_of(motion: Rigid) -> Table:
    """The same motion in every way it can be typed, to be copied."""
    turn = Rotation.from_matrix(motion.matrix)
    vector = turn.as_rotvec()
    angle = float(np.linalg.norm(vector))
    axis = vector / angle if angle > 0 else np.array([0.0, 0.0, 1.0])

    def said(values: Floats, digits: int) -> str:
        return " ".join(f"{value:.{digits}f}" for value in values)

    about = f"about {said(np.array(motion.about), 4)}"
    scale = f"; scale {(motion.scale - 1) / PPM:.4f}" if motion.scale != 1.0 else ""
    shift = f"shift {said(np.array(motion.shift), 5)}"
    euler = said(turn.as_euler("zyx", degrees=True), 7)
    back = " ".join(f"{value:.12g}" for value in motion.inverse().table.ravel().tolist())
    rows = (
        ("Turn about z, y, x (fixed axes), about its middle", f"{shift}; turn zyx {euler}{scale}; {about}"),
        ("Axis and angle, about its middle", f"{shift}; axis {said(axis, 9)} {np.degrees(angle):.7f}{scale}; {about}"),
        ("Inverse, as a matrix", back),
    )
    return Table("The same motion as text", (Column("what", "", "Way"), Column("text", "", "Text")), rows)
