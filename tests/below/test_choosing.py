"""Points chosen by their attributes: in a study, in statistics, in a conversion; on the command line and in a job."""

import argparse
import unittest

import numpy as np

from kerb.core.cloud.filters import Filter, lacking
from kerb.core.cloud.finders import FINDERS
from kerb.core.errors import InputError
from kerb.core.progress import silent
from kerb.core.units import METRE
from kerb.headless.choosing import LEFT_OUT, Search, filter_of, searches
from kerb.job import holdings, pointwork, studies
from kerb.job.job import Job
from kerb.studies.scope import Scope
from kerb.studies.stockpile.run import run
from kerb.studies.stockpile.setup import StockpileSetup
from tests.support import FAR, YARD, CommandLine, Folder, circle, frustum, heap_setup, jittered, sources_of, store_of, toe_of

FRUSTUM = np.pi * 6 / 3 * (100 + 40 + 16)  # any surveying handbook


class Wording(unittest.TestCase):
    def test_filters_as_they_are_typed(self):
        for text, wanted in (
            ("classification=2,6", Filter("classification", (2, 6))),
            ("source_file!=3", Filter("source_file", (3,), outside=True)),
            (" height above ground = ..0.5 ", Filter("height above ground", high=0.5)),
            ("intensity=100..900", Filter("intensity", low=100, high=900)),
            ("elevation=-3.5..", Filter("elevation", low=-3.5)),
            ("x!=-2..-1", Filter("x", low=-2, high=-1, outside=True)),
            ("gps_time=1e5..2e5", Filter("gps_time", low=1e5, high=2e5)),
        ):
            self.assertEqual(filter_of(text), wanted)
        for text in ("", "=3", "a", "a=", "a=..", "a=b..c", "a=1.5", "a=nan..", "a=1..inf", "colour=1,2,3"):
            with self.assertRaises(argparse.ArgumentTypeError, msg=text):
                filter_of(text)

    def test_what_is_searched_for(self):
        self.assertEqual(searches("low,pieces"), (Search("low"), Search("pieces")))
        self.assertEqual(searches("low:drop=0.3:cell=2")[0].values, (("drop", "0.3"), ("cell", "2")))
        store = store_of(np.random.default_rng(1).uniform(0, 5, (500, 3)) + FAR)
        for key in LEFT_OUT:
            self.assertEqual(Search(key).settings(store), FINDERS[key].usual(store))
        self.assertEqual(Search("outliers", (("neighbours", "9"),)).settings(store).neighbours, 9)
        for text in ("", "trees", "low:depth=3", "low:drop", "duplicates:cell=1"):
            with self.assertRaises(argparse.ArgumentTypeError, msg=text):
                searches(text)
        with self.assertRaisesRegex(InputError, "drop is a number"):
            Search("low", (("drop", "deep"),)).settings(store)


class InAStudy(unittest.TestCase):
    """A frustum under a hovering cloud of returns that only an attribute tells apart."""

    @classmethod
    def heap(cls, unit):
        xy = jittered(14, 0.15)
        heap = np.column_stack([xy, frustum(xy)])
        steam = np.column_stack([jittered(8, 0.3, 5), np.full(len(jittered(8, 0.3, 5)), 9.0)])
        points = (np.vstack([heap, steam]) + FAR) / unit.metres
        store = store_of(points, unit)
        number = np.asarray(store.column("number"))
        store.add_attribute("reflectance", "", np.where(number < len(heap), 0.8, 0.1).astype(np.float32))
        return store

    def test_an_attribute_that_is_not_there_is_said(self):
        store = self.heap(METRE)
        setup = heap_setup(circle(10.4, 36) + FAR[:2], Scope(only=(Filter("wetness", low=1.0),)))
        outcome = run(setup, sources_of(store), silent())
        self.assertIsNone(outcome.value("net"))
        self.assertIn("no attribute 'wetness'", outcome.warnings[-1].text)
        self.assertEqual(lacking(store, (Filter("colour", colour=(1, 2, 3)), Filter("elevation", low=1))), ["red"])


class InAJob(Folder):
    def test_a_study_is_stale_when_the_attribute_it_chooses_by_was_computed_again(self):
        job = Job.create(self.folder / "one.kerb")
        holding = holdings.import_cloud(job.folder, job.state, holdings.ImportWish(YARD), silent())
        job.execute(holdings.added(job, holding))
        store = job.store(holding)
        store.add_attribute("wetness", "", np.linspace(0, 1, store.count).astype(np.float32))
        middle = (store.bounds[0] + store.bounds[1])[:2] / 2
        scope = Scope(holding.id, only=(Filter("wetness", low=0.25),))
        chosen = StockpileSetup(scope, toe=toe_of(circle(8, 20) + middle), base="level", level=-50.0)
        change, study = studies.made(job.state, "stockpile", "Heap", chosen)
        job.execute(change)
        ready = studies.ready(job, study)
        job.execute(studies.answered(study, ready(job, silent()), ready.print))
        self.assertFalse(studies.is_stale(job.state, job.state.study(study.id)))
        job.note(pointwork.computed(holding, "another", "another"))
        self.assertFalse(studies.is_stale(job.state, job.state.study(study.id)))
        job.note(pointwork.computed(job.state.holdings[0], "wetness", "wetness"))
        self.assertTrue(studies.is_stale(job.state, job.state.study(study.id)))
        job.save()
        again = Job.open(job.folder)
        self.assertEqual(studies.setup_of(again.state.study(study.id)).cloud.only, (Filter("wetness", low=0.25),))
        self.assertTrue(studies.is_stale(again.state, again.state.study(study.id)))
        # Undo passes over what was computed: the attribute on disk is still the new one.
        job.undo()
        self.assertIn("wetness", job.state.holdings[0].computed)


class OnTheCommandLine(CommandLine):
    def test_an_attribute_that_is_not_there_or_that_no_point_has(self):
        out = self.folder / "none.laz"
        for option, words in (("wetness=1..2", "no attribute 'wetness'"), ("intensity=..-1", "no point passes")):
            status, _ = self.kerb("convert", YARD, out, "--only", option)
            self.assertEqual((status, out.exists()), (2, False))
            self.assertIn(words, self.error)
            self.assertIn(YARD.name, self.error)
        self.assertEqual(self.kerb("convert", YARD, out, "--only", "classification")[0], 2)
        self.assertIn("NAME=LOW..HIGH", self.error)
        self.assertEqual(self.kerb("convert", YARD, out, "--without", "low:drop=-1")[0], 2)
        self.assertFalse(out.exists())
