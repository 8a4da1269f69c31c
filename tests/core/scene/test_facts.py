from swift_sample.core.scene.facts import WITHOUT, missing_features
from swift_sample.core.scene.model import Camera, Choices, Material, Scene
from swift_sample.core.scene.open import open_scene
from tests.core.renderers.builtin.kernels.scenes import floor, sky


def test_the_stall_lacks_nothing() -> None:
    stall = open_scene("honey-stall-small", Choices(frame=5, shutter=0.5))
    assert missing_features(stall) == {}
    assert stall.variants == ("cut-out lid", "drilled lid")


def test_a_bare_scene_lacks_all() -> None:
    materials = [Material(name="matt"), Material(name="unused", transmission=1.0)]
    assert (
        missing_features(
            Scene(
                name="bare",
                meshes=[floor()],
                materials=materials,
                camera=Camera(position=(0, 1, 3), target=(0, 0, 0)),
                environment=sky(1.0),
            )
        )
        == WITHOUT
    )


def test_nothing_moves_in_the_first_frame_of_a_camera_at_rest() -> None:
    assert list(
        missing_features(open_scene("honey-stall-small", Choices(frame=0, shutter=0.5)))
    ) == ["motion"]
