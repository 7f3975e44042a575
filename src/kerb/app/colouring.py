"""How the cloud is coloured: the strip's choice, the legend and its limits, hidden values, the histogram."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from kerb.app import scenes
from kerb.app.session import Session
from kerb.app.tasks import Latest
from kerb.app.views.legend import Legend
from kerb.app.views.strip import Strip
from kerb.app.views.view import View
from kerb.app.widgets import made
from kerb.core.arrays import Floats32
from kerb.core.cloud import filters
from kerb.core.cloud.store import ELEVATION, PART, CloudStore
from kerb.core.quantity import symbol
from kerb.draw.scene import CloudLayer, Style, value_map
from kerb.job import pointwork, studies
from kerb.job.state import Holding
from kerb.studies.attributes import values_of
from kerb.studies.outcome import Attribute, Outcome


class Colouring(QObject):
    """The colours of one window's view."""

    filters_wanted = Signal(object)
    histogram_ready = Signal(object, str, str)
    # A pane with colours of its own has others.
    alone_changed = Signal()

    def __init__(self, session: Session, view: View, strip: Strip, legends: tuple[Legend, Legend]) -> None:
        """``legends`` are that of the main cloud and that of surfaces."""
        super().__init__(view)
        self.session, self.view, self.strip = session, view, strip
        self.legend, self.surfaces = legends
        # Computes what it is asked to colour by where that is not there yet: the actions on points set it.
        self.compute: Callable[[str], None] = lambda _name: None
        self._resting = QTimer(self)
        self._resting.setSingleShot(True)
        self._resting.setInterval(300)
        self._resting.timeout.connect(self._keep_limits)
        self._resting_surfaces = made(QTimer(self), singleShot=True, interval=300)
        self._resting_surfaces.timeout.connect(self._keep_surfaces)
        self._lending = Latest("lending", self)
        self._lending.done.connect(self._lent)
        self._wanted = ""
        # What the histogram that is shown was counted from.
        self._counted: tuple[Any, ...] = ()
        session.live.answered.connect(self._follow)
        session.answered.connect(self._follow)

    def idle(self) -> bool:
        """Whether no values are being worked out."""
        return self._lending.idle()

    def close(self) -> None:
        """End the thread."""
        self._lending.close()

    def listen(self) -> None:
        """Listen to the legend."""
        legend = self.legend
        legend.limits_changed.connect(lambda low, high: self._preview(low=low, high=high))
        legend.fit_wanted.connect(self._fit_limits)
        legend.style_wanted.connect(lambda values: self.style(**values))
        legend.value_toggled.connect(self._toggle_value)
        self.surfaces.limits_changed.connect(lambda low, high: self._preview_surfaces((low, high)))
        self.surfaces.fit_wanted.connect(lambda: self._style_surfaces(low=None, high=None))
        self.surfaces.style_wanted.connect(lambda values: self._style_surfaces(**values))

    def _keep_limits(self) -> None:
        low, high = self.legend.limits
        self.style(low=low, high=high)

    def layer(self) -> CloudLayer | None:
        """The main cloud as drawn."""
        holding, drawn = self.session.main_cloud(), self.view.scene.clouds
        if holding is None or not drawn:
            return None
        store = self.session.open_job.store(holding)
        return next((layer for layer in drawn if layer.store is store), drawn[0])

    def mirror(self) -> None:
        """Bring strip and legend in line with the main cloud's style."""
        layer = self.layer()
        self.strip.setVisible(self.session.has_data or layer is not None)
        self.strip.show_cloud(layer is not None)
        self._mirror_surfaces()
        if layer is None:
            self.legend.hide()
            return
        style, unit = layer.style, self.session.unit
        self.strip.set_unit(symbol(unit))
        self.strip.set_colours(scenes.colour_choices(layer.store, self._attributes()), style.by)
        self.strip.set_contour(style.contour)
        column = scenes.VALUE_COLUMNS.get(style.by, "")
        if style.by == "class":
            codes = list(layer.store.present(column))
            self.legend.show_classes(codes, filters.hidden_values(layer.filters, column, codes))
        elif column:
            holding = self.session.main_cloud()
            assert holding is not None
            entries = scenes.value_entries(layer.store, style.by, holding)
            off = filters.hidden_values(layer.filters, column, [code for code, _, _ in entries])
            off |= set(layer.hidden_parts) if style.by == PART else set()
            self.legend.show_values(scenes.TITLES[style.by], entries, off)
        elif style.by in ("colour", "plain"):
            self.legend.hide()
        elif layer.store.has(style.by) or style.by == "elevation":
            title = scenes.TITLES.get(style.by, style.by.replace("_", " ").capitalize())
            code = scenes.unit_of(layer.store, style.by, unit)
            self.legend.show_ramp(style, title, code, scenes.data_span(layer), layer.limits())

    def _mirror_surfaces(self) -> None:
        """The map of a study has a legend, else surfaces have one of their own where no cloud beside them has the same one."""
        shown, study = value_map(self.view.scene), self.session.study
        if shown is not None and study is not None:
            style = Style(ramp=shown.ramp, bands=shown.bands, low=shown.limits[0], high=shown.limits[1])
            self.surfaces.show_ramp(style, shown.title.partition(":")[0], shown.unit, shown.span, shown.limits)
            return
        scene, holding = self.view.scene, scenes.first_surface(self.session)
        span = scenes.surface_span(scene)
        style = Style() if holding is None else scenes.style_of(holding)
        by = scenes.surface_by(style)
        same = by == ELEVATION and scenes.elevation_cloud(scene) is not None
        if span is None or same:
            self.surfaces.hide()
            return
        shown = next(mesh for mesh in scene.meshes if mesh.ramp and mesh.values is None)
        words, unit = scenes.SURFACE_BY[by]
        style = replace(style, ramp=shown.ramp, bands=shown.bands)
        title = "Surfaces" if by == ELEVATION else words
        self.surfaces.show_ramp(style, title, unit or self.session.unit, span, shown.limits)

    def _style_surfaces(self, **values: object) -> None:
        # What was being dragged is overtaken.
        self._resting_surfaces.stop()
        study = self.session.study
        if study is not None and value_map(self.view.scene) is not None:
            self.session.execute(studies.coloured(study, **values))
            return
        holding = scenes.first_surface(self.session)
        if holding is not None:
            self.session.execute(scenes.style_change(holding, **values))

    def _preview_surfaces(self, limits: tuple[float, float]) -> None:
        scene = self.view.scene
        mapped = value_map(scene) is not None
        scene.meshes = [
            replace(m, limits=limits) if m.ramp and (m.values is not None) == mapped else m for m in scene.meshes
        ]
        self.view.redraw(moving=True)
        self._resting_surfaces.start()

    def _keep_surfaces(self) -> None:
        low, high = self.surfaces.limits
        self._style_surfaces(low=low, high=high)

    def colour_by(self, by: str) -> None:
        """Colour the cloud by something; what is not there yet is computed first."""
        holding = self.session.main_cloud()
        if holding is None:
            return
        store = self.session.open_job.store(holding)
        attribute = next((a for a in self._attributes().values() if scenes.column_of(a) == by), None)
        if attribute is not None:
            self._wanted = by
            self._lend(attribute, holding, store)
            return
        self._wanted = ""
        if by == "slope" and not store.has("slope"):
            self.compute("slope")
            return
        self.style(by=by, low=None, high=None, bands=())

    def _attributes(self) -> dict[str, Attribute]:
        """What the open study offers to colour by."""
        outcome = self.session.shown().outcome
        return outcome.attributes if outcome is not None else {}

    def _lend(self, attribute: Attribute, holding: Holding, store: CloudStore) -> None:
        outcome = self.session.shown().outcome
        if outcome is None:
            return
        found, job = outcome, self.session.job

        def work(_overtaken: object) -> tuple[object, ...]:
            return job, holding, attribute, values_of(attribute, found, store), found

        self._lending.submit(work)

    def _lent(self, result: object) -> None:
        if not isinstance(result, tuple):
            return
        job, holding, attribute, values, found = result
        self._show_lent(job, holding, attribute, (values, found))

    def _show_lent(
        self, job: object, holding: Holding, attribute: Attribute, what: tuple[Floats32 | None, Outcome]
    ) -> None:
        values, found = what
        now = self.session.open_job.state.holding(holding.id) if self.session.job is job and self.session.job else None
        if now is None or values is None or found is not self.session.shown().outcome or self.session.job is None:
            return
        self.session.open_job.store(now).lend(scenes.column_of(attribute), values, attribute.unit)
        if scenes.style_of(now).by == scenes.column_of(attribute):
            self.view.redraw()
            self.mirror()
        elif self._wanted == scenes.column_of(attribute):
            self.style(by=self._wanted, low=None, high=None, bands=())
        self._wanted = ""

    def _follow(self) -> None:
        """A new answer is there: values that colour the cloud follow it, once nothing is dragged any more."""
        layer, holding = self.layer(), self.session.main_cloud()
        if layer is None or holding is None or self.session.draft is not None:
            return
        for attribute in self._attributes().values():
            if scenes.column_of(attribute) == layer.style.by:
                self._lend(attribute, holding, self.session.open_job.store(holding))

    def style(self, **values: object) -> None:
        """Keep style values of the main cloud; limits that were being dragged are overtaken."""
        self._resting.stop()
        holding = self.session.main_cloud()
        if self.view.own:
            # Let loose: the others and the job keep theirs.
            self.view.colour_alone({**self.view.own, **values})
            self.mirror()
            self.alone_changed.emit()
        elif holding is not None:
            self.session.execute(scenes.style_change(holding, **values))

    def _preview(self, **values: Any) -> None:
        """Show limits while an end of the legend is dragged; they are kept when the mouse rests."""
        layer = self.layer()
        if layer is None:
            return
        layer.style = replace(layer.style, **values)
        self.view.redraw(moving=True)
        self._resting.start()

    def _toggle_value(self, code: int) -> None:
        """Hide a class, setup, file or part in the view, or show it again."""
        layer, holding = self.layer(), self.session.main_cloud()
        if layer is None or holding is None:
            return
        by = layer.style.by
        part = holding.part(code) if by == PART else None
        if part is not None:
            self.session.execute(pointwork.altered_part(holding, code, shown=not part.shown))
        elif by != PART:
            self.filters_wanted.emit(filters.toggled(holding.filters, scenes.VALUE_COLUMNS[by], code))

    def _fit_limits(self) -> None:
        """Limits from what is in view."""
        layer, picture = self.layer(), self.view.picture
        if layer is None or picture is None:
            return
        rows = picture.buffer.rows
        mine = rows[(rows >= layer.first_row) & (rows < layer.first_row + layer.store.count)] - layer.first_row
        values = layer.values(mine)
        values = values[np.isfinite(values)]
        if len(values):
            low, high = np.percentile(values, [0.5, 99.5])
            self.style(low=float(low), high=float(high if high > low else low + 1))

    def show_histogram(self) -> None:
        """The drawer's histogram of what the cloud is coloured by, from a fair sample."""
        layer = self.layer()
        if layer is None:
            return
        plain = ("colour", "plain", *scenes.VALUE_COLUMNS)
        by = layer.style.by if layer.style.by not in plain and layer.store.has(layer.style.by) else "elevation"
        code, title = scenes.unit_of(layer.store, by, self.session.unit), scenes.TITLES.get(by, by.capitalize())
        marks = (
            layer.store,
            by,
            code,
            layer.store.sets.mark,
            layer.store.meta.made_with.get(by),
            layer.store.placement,
        )
        if marks == self._counted:
            self.histogram_ready.emit(None, title, code)
            return
        self._counted = marks
        shown = CloudLayer(layer.store, replace(layer.style, by=by))
        self.histogram_ready.emit(shown.values(layer.store.fair_rows(300_000)), title, code)
