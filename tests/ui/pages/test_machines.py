"""The Machines page: who is there, what each does, and the answers side by side."""

from pathlib import Path

from PyQt6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot

from swift_sample.app.pictures import PictureStore
from swift_sample.app.view_model import MachinesShown
from swift_sample.core.machine import this_machine
from swift_sample.core.study.log.events import MachineShown, Named
from swift_sample.core.study.measuring.notices import Member
from swift_sample.ui.pages.machines import MachinesPage
from swift_sample.ui.strips.top_bar import TopBar
from swift_sample.ui.theme import DAY, DUSK
from tests.core.study.states import on_two_machines
from tests.ui.fake_session import FakeSession, view_of
from tests.ui.seen import button, click, field, has_button, texts

MEMBERS = (
    Member(
        host="bench",
        machine="other",
        label="Honeycore, 1 thread, 8 GiB",
        state="rendering 8 samples",
        runs=9,
        said="",
    ),
    Member(
        host="loft",
        machine="third",
        label="Honeycore, 4 threads, 8 GiB",
        state="left alone for a moment",
        runs=0,
        said="its disk is full",
    ),
)


def page_of(qtbot: QtBot, **changes: object) -> tuple[MachinesPage, FakeSession]:
    made = on_two_machines()
    store = PictureStore()
    page = MachinesPage(DAY, store)
    qtbot.addWidget(page)
    page.resize(940, 620)
    page.show()
    snapshot = made.snapshot(Path("none"))
    session = FakeSession(snapshot.results, snapshot=snapshot, **changes)
    session.attach(page)

    return page, session


def rows(page: MachinesPage, name: str) -> list[list[str]]:
    table = field(page, name)
    return [
        [table.item(row, column).text() for column in range(table.columnCount())]
        for row in range(table.rowCount())
    ]


def test_who_is_there_and_how_fast_each_is(qtbot: QtBot) -> None:
    page, _ = page_of(
        qtbot, machines=MachinesShown("tcp://a:1", members=MEMBERS, words="loft has joined")
    )
    first, second = rows(page, "Machines that have joined")
    assert first == [
        "bench",
        "Honeycore, 1 thread, 8 GiB",
        "rendering 8 samples",
        "9",
        "0.25 times as fast",
        "",
    ]
    assert second[-1] == "its disk is full"
    assert "loft has joined" in texts(page)


def test_answers_stand_side_by_side_and_can_be_looked_at(qtbot: QtBot) -> None:
    page, session = page_of(qtbot)
    here, there = rows(page, "Answers side by side")
    assert here[:4] == [
        "this computer: machine · looked at",
        "9",
        "8 samples",
        "1.0 s, 2.00 times as fast",
    ]
    assert there[1:4] == ["9", "tiles 8", "2.0 s, 4.00 times as fast"]
    assert there[4] == "8, 4.00 times faster"
    assert (
        "On all of them 8 samples is acceptable: 2.00, 1.33 times as fast as the base."
        in "\n".join(texts(page))
    )
    assert not button(page, "Look at its times").isEnabled()
    field(page, "Answers side by side").selectRow(1)
    click(button(page, "Look at its times"))
    assert session.asked == [("look_at_machine", ("other",))]
    page.set_theme(DUSK)
    assert rows(page, "Answers side by side")[1][1] == "9"


def test_the_top_line_says_whose_times_are_looked_at(qtbot: QtBot) -> None:
    made = on_two_machines()
    bar = TopBar(DAY, this_machine(), QMenu())
    qtbot.addWidget(bar)
    own = this_machine()
    record = {**own.hardware(), "threads": 1, "processor": "Honeycore"}
    made.happen(Named("machine", "other", record))
    bar.show_view(view_of(made.snapshot()))
    assert any(text.startswith("this machine · ") for text in texts(bar))
    made.happen(MachineShown("other"))
    bar.show_view(view_of(made.snapshot()))
    assert "times of another machine · 1 thread" in texts(bar)


def test_where_machines_meet_is_said_here(qtbot: QtBot) -> None:
    page, session = page_of(qtbot)
    field(page, "Address where machines meet").setText(" 10.0.0.7:8786 ")
    click(button(page, "Measure there"))
    assert session.asked[-1] == ("use_machines", ("10.0.0.7:8786", "", True))
    assert page.kept_state() == {"address": " 10.0.0.7:8786 "}
    click(button(page, "Who is there?"))
    assert [name for name, _ in session.asked[-2:]] == ["use_machines", "look_for_machines"]
    assert has_button(page, "Keys …")
