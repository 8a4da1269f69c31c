"""Beadlight, a stand-in for a renderer from outside: it draws beads on a table, by its own means
and in its own words.

It ships with Swift Sample so that there is another renderer to try things on, and shares no code
with the one that is built in. A scene is a text file; each line says one thing:

    eye X Y Z   aim X Y Z   angle DEGREES
    sky R G B   R G B                          above, and at the horizon
    table HEIGHT  R G B
    bead X Y Z RADIUS  R G B  [shiny BLUR]
    lamp X Y Z RADIUS  R G B

Run it with --help for its settings.
"""

import argparse
import json
import math
import os
import sys
import time

import numpy as np

VERSION = "Beadlight 1.2"
FAR, NEAR = 1e9, 1e-4


class BeadlightError(Exception):
    """Told in one line."""


def read_scene(path):
    """What a scene's text says: eye, sky, table, and rows of beads and lamps."""
    scene = {
        "eye": (0, 1, 5),
        "aim": (0, 0.5, 0),
        "angle": 40.0,
        "sky": ((0.5, 0.6, 0.8), (0.8, 0.8, 0.8)),
    }
    scene |= {"table": None, "beads": [], "lamps": []}
    try:
        with open(path, encoding="utf-8") as stream:
            lines = stream.read().splitlines()
    except (OSError, UnicodeDecodeError) as error:
        raise BeadlightError(f"{path}: cannot be read ({error})") from error
    for number, line in enumerate(lines, 1):
        words = line.partition("#")[0].split()
        if not words:
            continue
        try:
            read_line(scene, words)
        except (ValueError, IndexError) as error:
            raise BeadlightError(
                f"{path}, line {number}: not understood: {line.strip()[:60]}"
            ) from error
    return scene


def read_line(scene, words):
    kind, rest = words[0], words[1:]
    if kind == "eye":
        parts = dict(zip(("eye", "aim", "angle"), split_at(rest, ("aim", "angle")), strict=True))
        scene |= {
            "eye": numbers(parts["eye"], 3),
            "aim": numbers(parts["aim"], 3),
            "angle": float(parts["angle"][0]),
        }
    elif kind == "sky":
        scene["sky"] = (numbers(rest[:3], 3), numbers(rest[3:6], 3))
    elif kind == "table":
        scene["table"] = (float(rest[0]), numbers(rest[1:4], 3))
    elif kind == "bead":
        blur = float(rest[8]) if len(rest) > 7 and rest[7] == "shiny" else -1.0
        scene["beads"].append((*numbers(rest[:4], 4), *numbers(rest[4:7], 3), blur))
    elif kind == "lamp":
        scene["lamps"].append((*numbers(rest[:4], 4), *numbers(rest[4:7], 3)))
    else:
        raise ValueError(kind)


def split_at(words, marks):
    parts = [[]]
    for word in words:
        if word in marks:
            parts.append([])
        else:
            parts[-1].append(word)
    return parts


def numbers(words, count):
    found = tuple(float(word) for word in words)
    if len(found) != count or not all(map(math.isfinite, found)):
        raise ValueError(words)
    return found


class Beads:
    """A scene as arrays. Whatever rays meet is a bead, a lamp or the table, in this order."""

    def __init__(self, scene):
        beads = np.array(scene["beads"], float).reshape(-1, 8)
        lamps = np.array(scene["lamps"], float).reshape(-1, 7)
        self.middles = np.concatenate([beads[:, :3], lamps[:, :3]])
        self.radii = np.concatenate([beads[:, 3], lamps[:, 3]])
        self.colours, self.blurs, self.bead_count = beads[:, 4:7], beads[:, 7], len(beads)
        self.lamps, self.glow = lamps, lamps[:, 4:7]
        self.table = scene["table"]
        self.zenith, self.horizon = (np.array(colour) for colour in scene["sky"])

    def meet(self, origins, directions):
        """(distance, which) for each ray: which is -1 for the sky, -2 for the table."""
        distance, which = np.full(len(origins), FAR), np.full(len(origins), -1)
        for number, (middle, radius) in enumerate(zip(self.middles, self.radii, strict=True)):
            offset = origins - middle
            half = np.einsum("ij,ij->i", offset, directions)
            inside = half * half - np.einsum("ij,ij->i", offset, offset) + radius * radius
            root = np.sqrt(np.maximum(inside, 0))
            near = np.where(-half - root > NEAR, -half - root, -half + root)
            met = (inside > 0) & (near > NEAR) & (near < distance)
            distance, which = np.where(met, near, distance), np.where(met, number, which)
        if self.table is not None:
            with np.errstate(divide="ignore", invalid="ignore"):
                near = (self.table[0] - origins[:, 1]) / directions[:, 1]
            met = (near > NEAR) & (near < distance)
            distance, which = np.where(met, near, distance), np.where(met, -2, which)
        return distance, which

    def sky(self, directions):
        share = np.clip(directions[:, 1:2], 0, 1)
        return self.horizon + (self.zenith - self.horizon) * share

    def normals(self, points, which):
        normals = np.tile([0.0, 1.0, 0.0], (len(points), 1))
        round_ones = which >= 0
        normals[round_ones] = (points[round_ones] - self.middles[which[round_ones]]) / self.radii[
            which[round_ones], None
        ]
        return normals

    def surface(self, points, which):
        """Colour and blur of what was met; the table has a grain of wood."""
        colours, blurs = np.ones((len(points), 3)), np.full(len(points), -1.0)
        beads = (which >= 0) & (which < self.bead_count)
        colours[beads], blurs[beads] = self.colours[which[beads]], self.blurs[which[beads]]
        table = which == -2
        if table.any():
            x, z = points[table, 0], points[table, 2]
            rings = 0.85 + 0.15 * np.sin(
                9 * x + 2.0 * np.sin(1.7 * z) + 0.6 * np.sin(23 * x + 5 * z)
            )
            colours[table] = np.array(self.table[1]) * rings[:, None]
        return colours, blurs


def around(normals, rng, power=1.0):
    """Directions around normals, more of them near: by the cosine to this power."""
    u, turn = rng.random(len(normals)), 2 * np.pi * rng.random(len(normals))
    cosine = u ** (1 / (power + 1))
    sine = np.sqrt(np.maximum(0, 1 - cosine * cosine))
    side = np.where(np.abs(normals[:, :1]) > 0.9, [[0.0, 1.0, 0.0]], [[1.0, 0.0, 0.0]])
    across = np.cross(normals, side)
    across /= np.linalg.norm(across, axis=1, keepdims=True)
    up = np.cross(normals, across)
    return (
        normals * cosine[:, None]
        + across * (sine * np.cos(turn))[:, None]
        + up * (sine * np.sin(turn))[:, None]
    )


def from_lamps(beads, points, normals, colours, rays, rng):
    """Light that reaches matt places from points on lamps, chosen evenly, several times."""
    light, count = np.zeros((len(points), 3)), len(beads.lamps)
    if not count:
        return light
    for _ in range(rays):
        chosen = rng.integers(0, count, len(points))
        middle, radius = beads.lamps[chosen, :3], beads.lamps[chosen, 3]
        spot = rng.normal(size=(len(points), 3))
        spot /= np.linalg.norm(spot, axis=1, keepdims=True)
        towards = middle + spot * radius[:, None] - points
        far = np.linalg.norm(towards, axis=1)
        towards /= far[:, None]
        cosine, facing = (
            np.einsum("ij,ij->i", towards, normals),
            -np.einsum("ij,ij->i", towards, spot),
        )
        lit = (cosine > 0) & (facing > 0)
        if not lit.any():
            continue
        _, met = beads.meet(points[lit] + normals[lit] * 1e-3, towards[lit])
        seen = met == beads.bead_count + chosen[lit]
        share = (
            cosine[lit] * facing[lit] / far[lit] ** 2 * 4 * np.pi * radius[lit] ** 2 * count / np.pi
        )
        light[lit] += np.where(seen, share, 0)[:, None] * beads.glow[chosen[lit]] * colours[lit]
    return light / rays


def trace(beads, origins, directions, depth, lamp_rays, cap, rng):
    """Light along rays, followed over so many bounces; what bounces bring is capped."""
    light, kept, direct = np.zeros_like(origins), np.ones_like(origins), np.ones(len(origins), bool)
    alive = np.arange(len(origins))
    for bounce in range(depth + 1):
        distance, which = beads.meet(origins, directions)
        brought = np.zeros((len(alive), 3))
        brought[which == -1] = beads.sky(directions[which == -1])
        lamps = which >= beads.bead_count
        seen = lamps & direct
        brought[seen] = beads.glow[which[seen] - beads.bead_count]
        goes_on = (which == -2) | ((which >= 0) & ~lamps)
        points = origins + directions * np.minimum(distance, FAR / 2)[:, None]
        normals = beads.normals(points, which)
        inside = np.einsum("ij,ij->i", normals, directions) > 0
        normals[inside] *= -1
        colours, blurs = beads.surface(points, which)
        matt = goes_on & (blurs < 0)
        brought[matt] += from_lamps(
            beads, points[matt], normals[matt], colours[matt], lamp_rays, rng
        )
        brought *= kept
        if bounce and cap > 0:
            brought *= np.minimum(1, cap / np.maximum(brought.max(axis=1), 1e-9))[:, None]
        light[alive] += brought
        mirrored = directions - 2 * np.einsum("ij,ij->i", directions, normals)[:, None] * normals
        power = np.where(blurs < 0, 1.0, 2 / np.maximum(blurs, 0.02) ** 2)
        directions = around(np.where(blurs[:, None] < 0, normals, mirrored), rng, power)
        above = np.einsum("ij,ij->i", directions, normals) > 0
        goes_on &= above
        alive, kept = alive[goes_on], (kept * colours)[goes_on]
        origins, directions = (points + normals * 1e-3)[goes_on], directions[goes_on]
        direct = (blurs >= 0)[goes_on]
        if not len(alive):
            break
    return light


def camera_rays(scene, width, height, rows, rng):
    """Rays through rows of the picture, anywhere within each pixel."""
    eye, aim = np.array(scene["eye"], float), np.array(scene["aim"], float)
    forward = (aim - eye) / np.linalg.norm(aim - eye)
    right = np.cross(forward, [0, 1, 0])
    right /= np.linalg.norm(right)
    up = np.cross(right, forward)
    y, x = np.mgrid[rows, 0:width].reshape(2, -1)
    half = math.tan(math.radians(scene["angle"]) / 2)
    across = (2 * (x + rng.random(x.size)) / width - 1) * half * width / height
    down = (1 - 2 * (y + rng.random(y.size)) / height) * half
    directions = forward + across[:, None] * right + down[:, None] * up
    return np.tile(eye, (x.size, 1)), directions / np.linalg.norm(directions, axis=1, keepdims=True)


def softened(light, amount):
    """Every pixel mixed with its neighbours that look alike."""
    total, weight = light.copy(), np.ones(light.shape[:2] + (1,))
    padded = np.pad(light, ((2, 2), (2, 2), (0, 0)), mode="edge")
    height, width = light.shape[:2]
    for dy in range(-2, 3):
        for dx in range(-2, 3):
            if dy or dx:
                other = padded[2 + dy : 2 + dy + height, 2 + dx : 2 + dx + width]
                apart = ((np.sqrt(other) - np.sqrt(light)) ** 2).sum(axis=2, keepdims=True)
                share = np.exp(-apart / (0.02 * amount) - (dx * dx + dy * dy) / 4)
                total, weight = total + other * share, weight + share
    return total / weight


def save(light, target):
    if target.endswith(".exr"):
        import OpenEXR

        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        OpenEXR.File(header, {"RGB": np.ascontiguousarray(light, np.float32)}).write(target)
        return
    from PIL import Image

    shown = np.where(
        light <= 0.0031308, 12.92 * light, 1.055 * np.maximum(light, 1e-9) ** (1 / 2.4) - 0.055
    )
    Image.fromarray((np.clip(shown, 0, 1) * 255 + 0.5).astype(np.uint8)).save(target)


def main():
    parser = argparse.ArgumentParser(
        prog="beadlight", description="Draw beads. A stand-in that ships with Swift Sample."
    )
    parser.add_argument("scene", nargs="?")
    parser.add_argument("--picture", help="an .exr of light, or a .png as it is shown")
    parser.add_argument("--size", default="160x90")
    parser.add_argument("--start", type=int, default=0, help="another number, another grain")
    parser.add_argument("--passes", type=int, default=16, help="rays through each pixel")
    parser.add_argument("--depth", type=int, default=6, help="how often light goes on")
    parser.add_argument("--lamp-rays", type=int, default=1, help="towards lamps, from every place")
    parser.add_argument("--studio", help="a JSON file with soften and rows")
    parser.add_argument("--times", help="where to write how long each part took")
    parser.add_argument("--version", action="store_true")
    given = parser.parse_args()
    if given.version:
        print(VERSION)
        return
    if not given.scene or not given.picture:
        raise BeadlightError("expected a scene and --picture; see --help")
    started = time.perf_counter()
    width, height = (int(side) for side in given.size.split("x"))
    studio = {"soften": 0.0, "rows": 45}
    if given.studio:
        with open(given.studio, encoding="utf-8") as stream:
            studio |= json.load(stream)["studio"]
    cap = float(os.environ.get("BEADLIGHT_CAP", "0"))
    scene = read_scene(given.scene)
    beads = Beads(scene)
    print(f"{VERSION}: {beads.bead_count} beads, {len(beads.lamps)} lamps", flush=True)
    read = time.perf_counter()
    light, rows = np.zeros((height, width, 3)), max(1, int(studio["rows"]))
    for number in range(given.passes):
        for top in range(0, height, rows):
            rng = np.random.default_rng((given.start, number, top))
            part = slice(top, min(height, top + rows))
            origins, directions = camera_rays(scene, width, height, part, rng)
            own = trace(beads, origins, directions, given.depth, given.lamp_rays, cap, rng)
            light[part] += own.reshape(-1, width, 3)
        print(
            f"pass {number + 1} of {given.passes}, {100 * (number + 1) / given.passes:.0f} % done",
            flush=True,
        )
    light /= given.passes
    traced = time.perf_counter()
    if studio["soften"] > 0:
        light = softened(light, studio["soften"])
    smooth = time.perf_counter()
    save(light, given.picture)
    saved = time.perf_counter()
    if given.times:
        told = {
            "load": read - started,
            "sampling": traced - read,
            "denoise": smooth - traced,
            "write": saved - smooth,
        }
        with open(given.times, "w", encoding="utf-8") as stream:
            json.dump(told, stream)
    print("saved", flush=True)


if __name__ == "__main__":
    try:
        main()
    except BeadlightError as error:
        sys.exit(f"beadlight: {error}")
