"""The top bar: which study, which goal, which machine, and the button that measures."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QMenu, QPushButton, QWidget

from swift_sample.app.view_model import Activity, ViewModel
from swift_sample.core.machine import Machine
from swift_sample.core.study.measuring.snapshot import Snapshot, counted
from swift_sample.core.study.plan.model import FIRST_PICTURE
from swift_sample.ui.strips.verdict import WingSign
from swift_sample.ui.theme import NORMAL, SMALL, TOP_HEIGHT, Theme, font
from swift_sample.ui.widgets.words import PlainLabel, plain_tip

GOAL_WORDS = {"final": "final render", FIRST_PICTURE: "first picture"}
TIPS = {"final": "Compare total times", FIRST_PICTURE: "Compare the time until anything is visible"}


class TopBar(QWidget):
    """Study menu, goals, machine, and the main action."""

    goal_chosen = pyqtSignal(str)
    measure_clicked = pyqtSignal()
    search_clicked = pyqtSignal()

    def __init__(self, theme: Theme, machine: Machine, menu: QMenu) -> None:
        super().__init__()
        self.setObjectName("topBar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(TOP_HEIGHT)
        self._sign = WingSign(theme, "text", 28)
        self._name = QPushButton("Swift Sample")
        self._name.setFont(font(NORMAL, bold=True))
        self._name.setMenu(menu)
        self._name.setAccessibleName("Study menu")
        self._goals = QButtonGroup(self)
        self._own = machine
        self._machine = PlainLabel("")
        self._machine.setFont(font(SMALL))
        self._machine.setProperty("quiet", True)
        self._show_machine(machine, True)
        self._measure = QPushButton("Measure")
        self._search = QPushButton("Find the fastest")
        self._search.setProperty("main", True)
        self._measure.clicked.connect(self.measure_clicked)
        self._search.clicked.connect(self.search_clicked)
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 0, 12, 0)
        row.setSpacing(10)
        row.addWidget(self._sign)
        row.addWidget(self._name)
        row.addSpacing(8)

        for goal, words in GOAL_WORDS.items():
            button = QPushButton(words)
            button.setCheckable(True)
            button.setProperty("tab", True)
            button.setProperty("goal", True)
            button.clicked.connect(lambda _, chosen=goal: self.goal_chosen.emit(chosen))
            self._goals.addButton(button)
            row.addWidget(button)
            button.setObjectName(goal)

        row.addSpacing(12)
        row.addWidget(self._machine)
        row.addStretch(1)
        row.addWidget(self._measure)
        row.addWidget(self._search)

    @property
    def first(self) -> QWidget:
        """What has the keyboard when the bar is given it."""
        return self._name

    def set_theme(self, theme: Theme) -> None:
        self._sign.set_look(theme, "text")

    def show_beginning(self, name: str) -> None:
        """Show the name of a study that is being begun."""
        self.show_view(None)
        self._name.setText(f"{name} · new study")

    def show_view(self, model: ViewModel | None) -> None:
        """Show the study's name, its goal, and what the main button would do."""
        snapshot = model.snapshot if model is not None else None
        activity = model.activity if model is not None else Activity()

        for button in self._goals.buttons():
            button.setVisible(snapshot is not None)

        self._machine.setVisible(snapshot is not None)
        self._measure.setVisible(snapshot is not None and not activity.measuring)
        self._search.setVisible(snapshot is not None)

        if snapshot is None:
            self._name.setText("Swift Sample")
            return

        can = snapshot.study.catalogue.capabilities
        self._machine.setVisible(can.starts)  # where others were timed is not known
        is_own = snapshot.state.machine == snapshot.state.surroundings.machine
        self._show_machine(snapshot.timed_on(self._own), is_own)
        self._name.setText(snapshot.study.name)

        for button in self._goals.buttons():
            goal = button.objectName()
            button.setChecked(goal == snapshot.study.goal)
            missing = can.why_not("first_picture") if goal == FIRST_PICTURE else ""
            button.setEnabled(not missing)
            button.setToolTip(missing or TIPS[goal])

        self._show_search(snapshot, activity)
        self._show_measure(snapshot)

    def _show_machine(self, machine: Machine, is_own: bool) -> None:
        """Whose times are looked at."""
        threads = f"{machine.threads} thread{'s' if machine.threads != 1 else ''}"
        self._machine.setText(f"{'this' if is_own else 'times of another'} machine · {threads}")
        self._machine.setToolTip(f"{machine.processor}\n{machine.system}, {machine.versions}")

    def _show_search(self, snapshot: Snapshot, activity: Activity) -> None:
        """The main action: to find the fastest, or to pause while anything is measured."""
        if activity.measuring:
            self._search.setText("Ending …" if activity.stopping else "Pause")
            self._search.setEnabled(not activity.stopping)
            self._search.setToolTip("Finish this render, then pause")
            return

        combinations = snapshot.study.combinations()
        self._search.setText("Find the fastest")
        self._search.setEnabled(snapshot.problem is None and combinations > 1)

        self._search.setToolTip(
            plain_tip(snapshot.problem or "")
            or snapshot.study.catalogue.capabilities.why_not("starts")
            or (
                f"The fastest acceptable of all {combinations:,} combinations of the values on the "
                f"left, with few renders; {snapshot.search_cost_words}"
                if combinations > 1
                else "Add values to the settings on the left: a search combines them"
            )
        )

    def _show_measure(self, snapshot: Snapshot) -> None:
        """The other one: to measure what is planned."""
        waiting = snapshot.trials_waiting
        pictures = snapshot.trials_unmeasured
        self._measure.setEnabled(snapshot.problem is None and bool(waiting or pictures))

        if waiting == 0 and pictures:
            self._measure.setText(f"Compare {counted(pictures, 'trial')}")
            tip = "Their pictures are there, but not measured as the plan wants it now"
        elif waiting == 0:
            self._measure.setText("All measured" if snapshot.problem is None else "Measure")
            tip = "Add values to the settings on the left, then measure them"
        else:
            self._measure.setText(f"Measure {counted(waiting, 'trial')}")
            tip = "Render, time and judge every trial that is not measured yet"

        self._measure.setToolTip(plain_tip(snapshot.problem or "") or tip)
