"""The one door of actions: finds what does an action of the registry, or goes to a study or holding."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from kerb.app.doing.data import DataActions
from kerb.app.doing.jobs import JobActions
from kerb.app.doing.points import PointActions
from kerb.app.doing.reading import HelpActions
from kerb.app.doing.sections import SectionActions
from kerb.app.doing.studies import StudyActions
from kerb.app.doing.views import ViewActions
from kerb.app.session import Session


@dataclass
class Handlers:
    """Each action is one method, named after its id, of one of these."""

    session: Session
    jobs: JobActions
    views: ViewActions
    studies: StudyActions
    data: DataActions
    points: PointActions
    sections: SectionActions
    help: HelpActions
    # Shows a setting of the open study; the window knows where.
    show_field: Callable[[str], None] = lambda _name: None

    def run(self, key: str) -> None:
        """Do an action, alone or with what it is about (``name:what``), or go to a study or holding."""
        name, _, what = key.partition(":")
        if name == "study":
            self.session.select(what)
            self.views.fit_study()
        elif name == "holding":
            # Found by name it is the one that commands mean, with its page, as after a click on its row.
            self.data.look_over(what)
            self.views.fit_holding(what)
        elif name == "field":
            self.show_field(what)
        elif name == "undo":
            self.undo()
        elif name == "redo":
            self.session.redo()
        else:
            doing = self.find(name)
            doing(what) if what else doing()

    def undo(self) -> None:
        """Take back the last thing done with the tool in hand, else the last step of the job."""
        tool = self.views.stage.view.tool
        if (tool is None or not tool.take_back()) and not self.sections.keeper.take_back():
            self.session.undo()

    def find(self, name: str) -> Callable[..., None]:
        """The method that does an action. Raises KeyError for an unknown one."""
        name = "import_points" if name == "import" else name
        for part in (self.jobs, self.views, self.studies, self.data, self.points, self.sections, self.help):
            doing = getattr(type(part), name, None)
            if callable(doing):
                found: Callable[..., None] = getattr(part, name)
                return found
        raise KeyError(name)
