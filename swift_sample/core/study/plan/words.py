"""What of a plan is said to people in more than one place."""

from pathlib import Path

from swift_sample.core.scene.staging import Staging


def staging_words(staging: Staging) -> str:
    """What stands in for a scene's own: "lit by 0.5,0.5,0.5, camera placed by hand"."""
    words = []
    if staging.environment is not None:
        words.append(f"lit by {Path(staging.environment).name}")
    if staging.strength != 1 or staging.turn != 0:
        words.append(f"sky × {staging.strength:g}, turned {staging.turn:g}°")

    if staging.viewpoint is not None:
        words.append("camera placed by hand")
    elif staging.camera:
        words.append(f"camera {staging.camera}")

    return ", ".join(words) or "light and camera of the scene"
