"""A list of points that grows while a field controller is listened to."""

from __future__ import annotations

import uuid
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from datetime import date

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.placing import Placing
from kerb.core.reference import ReferenceSystem, from_text, local_grid
from kerb.core.things import POINTS, Placed
from kerb.core.units import length_unit
from kerb.formats.shots import Hello, Shot
from kerb.job import vault
from kerb.job.holdings import default_placing
from kerb.job.job import Change, Job
from kerb.job.state import Holding, JobState, free_name


class ShotList:
    """Shots of one connection. The first ones make a holding; what came together is on disk before it is shown."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self.hello: Hello | None = None
        self.holding: Holding | None = None
        self.placing: Placing | None = None
        self._shots: list[Shot] = []
        self._places: Floats = np.empty((0, 3))
        self._names: Counter[str] = Counter()

    @property
    def count(self) -> int:
        """How many shots came."""
        return len(self._shots)

    def take(self, messages: Sequence[Hello | Shot]) -> list[Shot]:
        """Take what came together, and return its shots as they are kept: a name that was there is numbered.

        Raises InputError, when there is no way to the job's system; JobError, when they cannot be kept.
        """
        before = len(self._shots)
        for message in messages:
            if isinstance(message, Hello):
                self._keep()
                self.hello = message
                self.placing = default_placing(self.job.state, self._reference(message), None)
                self.placing.mapper()
            elif self.placing is None:
                raise InputError("the field controller sent a shot before it said its unit")
            else:
                self._shots.append(self._told_apart(message))
        self._keep()
        return self._shots[before:]

    def _told_apart(self, shot: Shot) -> Shot:
        """The shot, numbered where one of its name came before."""
        name = shot.name
        while name in self._names:
            self._names[shot.name] += 1
            name = f"{shot.name} ({self._names[shot.name]})"
        self._names[name] = 1
        return replace(shot, name=name)

    def _keep(self) -> None:
        """Bring what is new into the job, from the system that the last hello named."""
        new = self._shots[len(self._places) :]
        if not new:
            return
        assert self.placing is not None
        numbers = np.array([(s.easting, s.northing, s.elevation) for s in new])
        self._places = np.concatenate([self._places, self.placing.mapper()(numbers)])
        item = self._item()
        if self.holding is None or self.job.state.holding(self.holding.id) is None:
            self._begin(item)
        else:
            self.holding = self.job.grow(self.holding, item)

    def close(self) -> None:
        """Say in the record how many came."""
        if self._shots:
            self.job.note(Change(f"Listened to the field controller: {self.count} shots", lambda state: state))

    def _begin(self, item: Placed) -> None:
        key = uuid.uuid4().hex[:10]
        vault.save_thing(self.job.folder / "data" / key, item)
        assert self.placing is not None
        name = free_name("Field shots", [holding.name for holding in self.job.state.holdings])
        holding = Holding(
            key, name, POINTS, date.today().isoformat(), "", 0, f"data/{key}", item.count,
            steps=("Listened to a field controller", self.placing.sentence),
        )  # fmt: skip
        reference = item.reference

        def apply(state: JobState) -> JobState:
            if not state.holdings:
                title = replace(state.title, unit=reference.unit.code, reference=reference.to_json())
                state = replace(state, title=title)
            return state.with_holding(holding)

        self.job.execute(Change(f"Began to listen to a field controller: {name}", apply))
        self.holding = holding

    def _item(self) -> Placed:
        assert self.placing is not None
        plan = tuple("" if s.precision is None else f"{s.precision[0]:g}" for s in self._shots)
        height = tuple("" if s.precision is None else f"{s.precision[1]:g}" for s in self._shots)
        extra = {"precision plan": plan, "precision height": height, "time": tuple(s.time for s in self._shots)}
        names, codes = tuple(s.name for s in self._shots), tuple(s.code for s in self._shots)
        return Placed(POINTS, SurveyPoints(self._places, names, codes, extra), self.placing.result)

    @staticmethod
    def _reference(hello: Hello) -> ReferenceSystem:
        unit = length_unit(hello.unit)
        try:
            named = from_text(hello.crs) if hello.crs else local_grid(unit)
        except InputError:
            named = local_grid(unit)
        return named if named.unit == unit else local_grid(unit)
