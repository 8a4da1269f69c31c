"""The ledger's widgets: chips go in and out of the sweep, carry results, forbid and become the
base; the order; the foot."""

import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QEnterEvent, QImage
from PyQt6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from swift_sample.app.ledger_model import ChipState
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.study.plan.model import Study
from swift_sample.ui.ledger import Flow, Ledger
from swift_sample.ui.theme import DAY, DUSK
from swift_sample.ui.widgets.chips import Chip
from tests.core.study.answers.test_results import STUDY, results_of
from tests.ui.fake_session import snapshot_of, view_of
from tests.ui.seen import button, click, field, texts

THREE = {100: (10.0, (1.0, 0.9, 1.1)), 50: (5.0, (1.6, 1.5, 1.7)), 20: (2.0, (2.6, 2.5, 2.7))}
SAMPLES = "samples.max"
PLAN = STUDY.with_values_to_try({SAMPLES: (100, 50, 20)})


@pytest.fixture
def ledger(qtbot: QtBot) -> Ledger:
    made = Ledger(DAY)
    qtbot.addWidget(made)
    made.resize(316, 700)
    made.show()

    return made


def show(ledger: Ledger, study: Study = PLAN, selected: str | None = None) -> None:
    ledger.show_view(
        view_of(snapshot_of(results_of(THREE)), study=study, selected_setting=selected)
    )
    QApplication.processEvents()  # widgets in a layout appear with the next event


def colours(image: QImage, y: int) -> set[str]:
    return {image.pixelColor(x, y).name() for x in range(image.width())}


def test_a_click_takes_a_value_in_or_out(ledger: Ledger, qtbot: QtBot) -> None:
    show(ledger)
    strip = ledger.strip_of(SAMPLES)

    for value, expected in ((20, (50, 100)), (64, (20, 50, 100, 64))):
        with qtbot.waitSignal(ledger.values_changed) as changed:
            qtbot.mouseClick(strip.chip(value), Qt.MouseButton.LeftButton)

        key, values = changed.args
        assert key == SAMPLES
        assert sorted(values) == sorted(expected)

    with (
        qtbot.assertNotEmitted(ledger.values_changed, wait=50),
        qtbot.waitSignal(ledger.setting_selected) as selected,
    ):
        qtbot.mouseClick(strip.chip(100), Qt.MouseButton.LeftButton)

    assert selected.args == [SAMPLES], "the base's value cannot leave; a click shows the trail"


def test_kept_bases_stand_beside_the_base(ledger: Ledger) -> None:
    night = PLAN.base.replace({"bounces.total": 4, SAMPLES: 400})
    show(ledger, PLAN.with_base_kept("night", night).with_base_kept("same", PLAN.base))
    assert "other bases: night 4" in texts(ledger.strip_of("bounces.total"))
    assert "other bases: night 400" in texts(ledger.strip_of(SAMPLES))
    show(ledger)
    assert not any(text.startswith("other bases") for text in texts(ledger)), "nothing else is kept"


def test_typed_values_join_and_nonsense_is_told(ledger: Ledger, qtbot: QtBot) -> None:
    show(ledger)
    strip = ledger.strip_of(SAMPLES)
    qtbot.mouseClick(field(strip, "Add values of Samples, at most"), Qt.MouseButton.LeftButton)
    assert field(strip, "Values of Samples, at most to try").isVisible()
    qtbot.keyClicks(field(strip, "Values of Samples, at most to try"), "200..400 x2")
    with qtbot.waitSignal(ledger.values_changed) as changed:
        qtbot.keyClick(field(strip, "Values of Samples, at most to try"), Qt.Key.Key_Return)

    assert sorted(changed.args[1]) == [20, 50, 100, 200, 400]
    qtbot.mouseClick(field(strip, "Add values of Samples, at most"), Qt.MouseButton.LeftButton)
    qtbot.keyClicks(field(strip, "Values of Samples, at most to try"), "lots")
    typed = field(strip, "Values of Samples, at most to try")
    qtbot.keyClick(typed, Qt.Key.Key_Return)
    assert "lots: expected a whole number from 1 to 65536; or a range such as 16..256 x2" in texts(
        strip
    )
    assert typed.text() == "lots", "what was typed stays, to be corrected"
    typed.setText("1..500 +1")
    with qtbot.assertNotEmitted(ledger.values_changed, wait=20):
        qtbot.keyClick(typed, Qt.Key.Key_Return)

    with qtbot.waitSignal(ledger.values_changed) as changed:
        click(button(strip, "Try all 500"))

    assert len(changed.args[1]) == 500, "20, 50 and 100 are among them"
    qtbot.mouseClick(field(strip, "Add values of Samples, at most"), Qt.MouseButton.LeftButton)
    qtbot.keyClick(typed, Qt.Key.Key_Escape)
    assert not typed.isVisible()


def test_choices_have_no_field_for_typing(ledger: Ledger) -> None:
    show(ledger)
    method = ledger.strip_of("denoise.method")
    ledger.open_group(CATALOGUE["denoise.method"].group)
    assert method.isVisible()
    assert field(ledger, "Add values of Samples, at most").isVisibleTo(ledger)
    assert not field(method, "Add values of Method").isVisibleTo(ledger)


def test_what_matters_stands_first_and_groups_are_folded_to_a_line(
    ledger: Ledger, qtbot: QtBot
) -> None:
    show(ledger)
    assert ledger.strip_of(SAMPLES).isVisible(), "it is tried"
    assert not ledger.strip_of("bounces.total").isVisible()
    headings = {heading.name: heading for heading in ledger._headings.values()}
    assert headings["Sampling"].text().startswith("▸ Sampling   1 of 6 tried, wins up to 50%")
    assert headings["Light bounces"].accessibleName().endswith("folded")
    click(headings["Light bounces"])
    QApplication.processEvents()
    assert ledger.strip_of("bounces.total").isVisible()
    click(headings["Light bounces"])
    assert not ledger.strip_of("bounces.total").isVisible()
    show(ledger, selected="bounces.total")
    assert ledger.strip_of("bounces.total").isVisible(), "what is shown on the map is not hidden"


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("noise", "samples.noise_threshold"),
        ("spp", SAMPLES),
        ("fireflies", "light.clamp_indirect"),
        ("ray dep", "bounces.total"),
        ("bvh", "scene.keep_built"),
        ("Haze", "volume.step"),
    ],
)
def test_a_setting_is_found_by_its_words_and_by_those_of_the_trade(
    ledger: Ledger, text: str, found: str
) -> None:
    show(ledger)
    ledger._search.setText(text)
    assert found in ledger._arranged
    assert len(ledger._arranged) < 8
    ledger._search.setText("nothing of the kind")
    assert "No setting goes by these words." in texts(ledger)
    ledger._search.clear()
    assert SAMPLES in ledger._arranged


def test_the_keyboard_walks_settings_and_values(ledger: Ledger, qtbot: QtBot) -> None:
    show(ledger)
    ledger.setFocus()
    qtbot.keyClick(ledger, Qt.Key.Key_Up)
    assert ledger._row == SAMPLES
    qtbot.keyClick(ledger, Qt.Key.Key_Right)
    assert "Samples, at most" in ledger.accessibleDescription()
    with qtbot.waitSignal(ledger.values_changed):
        qtbot.keyClick(ledger, Qt.Key.Key_Space)

    qtbot.keyClick(ledger, Qt.Key.Key_7)
    typed = field(ledger.strip_of(SAMPLES), "Values of Samples, at most to try")
    qtbot.keyClicks(typed, "7")
    with qtbot.waitSignal(ledger.values_changed) as changed:
        qtbot.keyClick(typed, Qt.Key.Key_Return)

    assert 77 in changed.args[1]
    qtbot.keyClick(ledger, Qt.Key.Key_Down)
    assert ledger._row == "Sampling"
    qtbot.keyClick(ledger, Qt.Key.Key_Space)
    qtbot.keyClick(ledger, Qt.Key.Key_Down)
    assert ledger._row == "samples.min"
    with qtbot.waitSignal(ledger.setting_selected) as selected:
        qtbot.keyClick(ledger, Qt.Key.Key_Return)

    assert selected.args == ["samples.min"]
    stops = [
        w
        for w in ledger.findChildren(QWidget)
        if w.focusPolicy() & Qt.FocusPolicy.TabFocus and w.isVisible()
    ]
    assert len(stops) == 2, "the field and the order; all else is one stop"


def test_hovering_names_the_value_and_leaving_takes_it_back(ledger: Ledger, qtbot: QtBot) -> None:
    show(ledger)
    chip = ledger.strip_of(SAMPLES).chip(50)
    hovered: list[tuple[str, object]] = []
    ledger.chip_hovered.connect(lambda key, value: hovered.append((key, value)))
    QApplication.sendEvent(chip, QEnterEvent(QPointF(3, 3), QPointF(3, 3), QPointF(3, 3)))
    assert hovered == [(SAMPLES, 50)]
    QApplication.sendEvent(chip, QEvent(QEvent.Type.Leave))
    assert hovered == [(SAMPLES, 50), (SAMPLES, None)]


def test_order_by_leverage_puts_what_wins_most_first(ledger: Ledger, qtbot: QtBot) -> None:
    show(ledger)
    click(button(ledger, "in groups"))
    show(ledger)
    first = ledger._column.itemAt(0).widget()
    assert first is ledger.strip_of(SAMPLES), (
        "half the samples are acceptable and take half the time"
    )
    assert button(ledger, "by leverage").isVisible()


def test_the_foot_says_how_many_before_anything_starts(ledger: Ledger) -> None:
    show(ledger)
    assert "3 trials, 3 runs each" in texts(ledger)


def chip_of(qtbot: QtBot, **changes) -> Chip:
    given = {
        "value": 50,
        "is_base": False,
        "planned": True,
        "time_share": 0.5,
        "verdict": "acceptable",
        "tip": "",
        **changes,
    }
    made = Chip(CATALOGUE[SAMPLES], ChipState(**given), DAY)
    qtbot.addWidget(made)
    made.resize(made.sizeHint())

    return made


def test_a_chip_is_a_bar_of_its_time_and_a_mark_of_its_verdict(qtbot: QtBot) -> None:
    good = chip_of(qtbot).grab().toImage()
    bar = [x for x in range(good.width()) if good.pixelColor(x, 28) == DAY.colour("acceptable")]
    assert len(bar) == pytest.approx(good.width() / 2, abs=3)
    assert DAY.over.lower() not in colours(good, 28)
    over = chip_of(qtbot, verdict="not acceptable", time_share=1.0).grab().toImage()
    hollow = over.pixelColor(over.width() // 2, 28)
    assert hollow == DAY.colour("page"), "over a limit is hollow, not only another colour"
    unmeasured = chip_of(qtbot, time_share=None, verdict="unmeasured").grab().toImage()
    assert colours(unmeasured, 28) & {DAY.line.lower()}
    assert not colours(unmeasured, 28) & {DAY.acceptable.lower(), DAY.over.lower()}


def test_chips_say_their_role_in_words(qtbot: QtBot) -> None:
    assert chip_of(qtbot).accessibleName() == "Samples, at most 50, in the sweep"
    assert chip_of(qtbot, is_base=True).accessibleName().endswith("50, base")
    assert (
        chip_of(qtbot, planned=False, forbidden=True)
        .accessibleName()
        .endswith("not in the sweep, must not be used")
    )
    chip = chip_of(qtbot)
    before = chip.grab().toImage()
    chip.show_state(chip.state, DUSK)
    assert chip.grab().toImage() != before


def test_chips_flow_onto_as_many_lines_as_they_need(qtbot: QtBot) -> None:
    flow = Flow()
    host = QWidget()
    qtbot.addWidget(host)
    host.setLayout(flow)
    chips = [chip_of(qtbot, value=value) for value in (10, 100, 1000, 10_000, 100_000)]
    for chip in chips:
        flow.addWidget(chip)

    host.resize(1000, 200)
    host.show()
    QApplication.processEvents()
    one = flow.heightForWidth(1000)
    assert one == chips[0].sizeHint().height()
    assert flow.heightForWidth(120) >= 2 * one
    assert flow.count() == 5
    assert flow.takeAt(9) is None
