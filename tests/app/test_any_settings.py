"""Any settings under the hand: the picture that the knobs show is the rendered one."""

from contextlib import closing
from dataclasses import replace

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from swift_sample.app.any_settings import SettingsPicture, knobs_of
from swift_sample.app.blending import Blending
from swift_sample.app.field import Field, field_shown
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.view import View
from swift_sample.core.study.answers.acceptance import UNMEASURED
from swift_sample.core.study.answers.field import combinations
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.policies.deriving import Deriving
from tests.core.study.measuring.test_deriving import SMALL
from tests.core.study.measuring.test_searching import BASE


@pytest.fixture(scope="module")
def measured(tmp_path_factory: pytest.TempPathFactory):
    """A study with recordings, its whole field, and the base timed."""
    path = create_study(tmp_path_factory.mktemp("any") / "any.study", SMALL)
    driver = Driver(Store.open(path))
    assert driver.run_here(Deriving(list(combinations(SMALL)))).finished
    assert driver.run_here(Sweeping(trials=(BASE, BASE.replace({"samples.max": 8})))).finished
    yield driver
    driver.close()


@pytest.fixture
def settings(qtbot: QtBot):
    made = SettingsPicture()
    yield made
    made.close()


def test_the_picture_is_the_rendered_one(
    measured: Driver, settings: SettingsPicture, qtbot: QtBot
) -> None:
    """Pixel for pixel: a run of the same settings had a recorded chunk's seed."""
    wanted = BASE.replace({"samples.max": 8})
    settings.show(wanted, measured.snapshot)
    qtbot.waitUntil(lambda: not settings.shown.words, timeout=60_000)
    layers = settings.shown.layers
    assert layers is not None

    trial = measured.state.trial_of(wanted)
    first = measured.state.results.trials[trial.id][0]
    rendered = read_exr(Folder(measured.path).picture(first.picture)).beauty
    assert first.picture in measured.state.results.of_chunks
    shown = layers.pyramids["beauty"].levels[0][..., :3]
    assert np.array_equal(shown, rendered.astype(shown.dtype)), "as far as a screen shows it"


def test_settings_that_no_recording_holds_say_so(
    measured: Driver, settings: SettingsPicture, qtbot: QtBot
) -> None:
    settings.show(BASE.replace({"samples.max": 9}), measured.snapshot)
    qtbot.waitUntil(lambda: settings.shown.words.startswith("It cannot"), timeout=60_000)
    assert settings.shown.layers is None
    assert "time it instead" in settings.shown.words


def test_another_view_has_another_picture(
    measured: Driver, settings: SettingsPicture, qtbot: QtBot
) -> None:
    settings.show(BASE, measured.snapshot)
    qtbot.waitUntil(lambda: not settings.shown.words, timeout=60_000)
    first = settings.shown
    settings.follow(measured.snapshot)
    assert settings.shown is first, "nothing that it depends on has changed"

    plan = replace(measured.state.plan, view=View(exposure=1.0))
    other = replace(measured.snapshot, state=replace(measured.state, plan=plan))
    settings.follow(other)
    assert settings.shown is not first
    assert settings.shown.layers is None, "the old picture is not shown for the new view"
    qtbot.waitUntil(lambda: not settings.shown.words, timeout=60_000)


def test_only_what_was_wanted_last_is_shown(
    measured: Driver, settings: SettingsPicture, qtbot: QtBot
) -> None:
    told = []
    settings.changed.connect(lambda: told.append(settings.shown))
    for samples in (8, 64, 8, 64):
        settings.show(BASE.replace({"samples.max": samples}), measured.snapshot)

    qtbot.waitUntil(lambda: not settings.shown.words, timeout=60_000)
    assert settings.shown.configuration["samples.max"] == 64
    assert [one for one in told if not one.words] == [settings.shown]


def test_knobs_tell_the_price_and_the_verdict_of_every_value(measured: Driver) -> None:
    field = field_shown(measured.snapshot)
    assert field is not None
    assert field.is_whole
    knobs = {knob.key: knob for knob in knobs_of(SMALL, field, BASE, 1.0)}
    assert set(knobs) == {"samples.max", "bounces.total", "denoise.method"}

    methods = [bar.value for bar in knobs["denoise.method"].bars]
    declared = SMALL.catalogue["denoise.method"].values
    assert methods == sorted(methods, key=declared.index), "in the order of the catalogue"
    samples = knobs["samples.max"]
    assert [bar.value for bar in samples.bars] == sorted({8, 64, BASE["samples.max"]})
    assert samples.words == str(BASE["samples.max"])
    seconds = [bar.seconds.value for bar in samples.bars]
    assert seconds == sorted(seconds)
    assert all(bar.verdict != UNMEASURED for bar in samples.bars)

    nothing = Field((), 0, 0)
    bars = knobs_of(SMALL, nothing, BASE, 1.0)[0].bars
    assert {(bar.seconds, bar.verdict) for bar in bars} == {(None, UNMEASURED)}


def test_a_blend_is_never_compared_with_its_own_samples(measured: Driver, qtbot: QtBot) -> None:
    """A run with a chunk's seed holds samples of the reference: those are taken out of it."""
    snapshot = measured.snapshot
    trial = measured.state.trial_of(BASE.replace({"samples.max": 8}))
    picture = measured.state.results.trials[trial.id][0].picture
    recording, samples = snapshot.piece_of(picture)
    assert recording.exists()
    assert snapshot.piece_of("none of them.exr") is None

    file = snapshot.folder.picture(picture)
    reference = (snapshot.reference_path, snapshot.digest_of(snapshot.reference_path.name))
    whole = read_exr(snapshot.reference_path)
    with closing(snapshot.renderer.engine().open_recording(recording)) as opened:
        own = opened.own().picture

    made = Blending(
        [(file, snapshot.digest_of(picture))],
        trial.configuration,
        snapshot.renderer,
        measured.state.plan.view,
        reference,
        reference_samples=snapshot.reference.samples,
        pieces={file: (recording, samples)},
    )
    qtbot.waitUntil(lambda: made._true is not None, timeout=60_000)
    left = snapshot.reference.samples - samples
    rest = (whole.beauty * snapshot.reference.samples - own.beauty * samples) / left
    assert np.allclose(made._true.beauty, rest, rtol=1e-3, atol=1e-4)
    assert not np.allclose(made._true.beauty, whole.beauty, rtol=1e-3, atol=1e-4)
    made.close()
