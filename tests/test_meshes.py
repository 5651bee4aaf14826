"""Levels from glTF and OBJ: names to surfaces, axes, units, mirrors, and what a modeller would want to mend."""

from __future__ import annotations

import json

import numpy as np
import pytest
import trimesh
from click.testing import CliRunner

import tinclock
from tinclock.cli.main import main
from tinclock.errors import RulesError
from tinclock.intake.meshes.mesh_file import look_over

BOXES = {"wall_north": ((0.0, 6.0, 1.0), (12.0, 0.4, 2.0)), "wall_east": ((6.0, 0.0, 1.0), (0.4, 12.0, 2.0)),
         "pane": ((-2.0, 1.0, 1.0), (0.05, 4.0, 2.0))}  # fmt: skip
SURFACES = "[surfaces.brick]\n[surfaces.glass]\nblocks_sight = false\nresistance_per_m = 500.0\n"


def scene(up: str, mirrored: bool = False, units: float = 1.0) -> trimesh.Scene:
    """The boxes, z up in metres, as a modeller's file has them: another axis up, other units, mirrored nodes."""
    out = trimesh.Scene()
    turn = {"y": np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0]], float), "z": np.eye(3)}[up]
    for name, (centre, size) in BOXES.items():
        box = trimesh.creation.box(extents=np.abs(turn @ np.array(size)) / units)
        place = np.eye(4)
        place[:3, 3] = turn @ np.array(centre) / units
        if mirrored:
            place[0, 0] = -1.0
        out.add_geometry(box, node_name=name, geom_name=f"{name}_mesh", transform=place)
    return out


def level_file(folder, mesh: str, more: str = "", names: str = '"wall*" = "brick", "pane" = "glass"') -> str:
    path = folder / "level.toml"
    path.write_text(
        f'schema = 1\n{SURFACES}[mesh]\nfile = "{mesh}"\n{more}\n[mesh.names]\n' + names.replace(", ", "\n")
    )
    return str(path)


@pytest.mark.parametrize("case", ["glb", "gltf", "obj", "mirrored", "centimetres"])
def test_a_mesh_in_a_file_rules_as_its_boxes_do(tmp_path, case):
    """A thousand random rays against the level made of the same boxes by hand."""
    up, units = ("z", 1.0) if case == "obj" else ("y", 0.01 if case == "centimetres" else 1.0)
    suffix = case if case in ("glb", "gltf", "obj") else "glb"
    made = scene(up, case == "mirrored", units)
    if suffix == "gltf":
        for name, data in trimesh.exchange.gltf.export_gltf(made).items():
            (tmp_path / name).write_bytes(data)
    else:
        made.export(tmp_path / f"model.{suffix}")
    more = ('up = "z"\n' if case == "obj" else "") + (f"metres_per_unit = {units}" if units != 1.0 else "")
    names = '"*" = "brick"' if case == "obj" else '"wall*" = "brick", "pane*" = "glass"'  # OBJ keeps names of its own
    level = tinclock.load_level(level_file(tmp_path, f"model.{suffix}", more, names))
    middles, halves = zip(*[(centre, np.array(size) / 2) for centre, size in BOXES.values()], strict=True)
    kinds = [0, 0, 0] if case == "obj" else [0, 0, 1]
    by_hand = tinclock.Level.from_boxes(middles, halves, [0.0] * 3, kinds, level.surfaces)
    rng = np.random.default_rng(1)
    origins = rng.uniform((-8, -8, 0.1), (8, 8, 3.0), (1000, 3))
    ways = rng.normal(size=(1000, 3))
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    ours, theirs = level.first_many(origins, ways, 40.0), by_hand.first_many(origins, ways, 40.0)
    assert (theirs.face >= 0).sum() > 100
    np.testing.assert_allclose(ours.distance_m, theirs.distance_m, atol=1e-5)
    hit = theirs.face >= 0
    assert (level.kinds[ours.face[hit]] == by_hand.kinds[theirs.face[hit]]).all()
    found = look_over(level)
    assert (found.holes, found.turned, found.tiny, found.inside_out) == (0, 0, 0, 0)


def test_holes_turned_and_tiny_faces_and_bodies_inside_out_are_found(tmp_path):
    """Holes, turned and tiny faces and bodies inside out are found."""
    box = trimesh.creation.box((1, 1, 1))
    open_, turned = box.copy(), box.copy()
    open_.update_faces(np.arange(12) != 3)
    turned.faces[0] = turned.faces[0][::-1]
    sliver = trimesh.Trimesh([[5, 0, 0], [6, 0, 0], [7, 0, 0]], [[0, 1, 2]], process=False)
    inward = box.copy()
    inward.faces = inward.faces[:, ::-1]
    whole = trimesh.util.concatenate(
        [m.apply_translation((3 * k, 0, 0)) for k, m in enumerate((open_, turned, inward))]
    )
    found = look_over(tinclock.Level(*(lambda m: (m.vertices, m.faces))(trimesh.util.concatenate([whole, sliver]))))
    assert (found.holes, found.turned, found.tiny, found.inside_out) == (3 + 3, 3, 1, 1)


def test_what_is_wrong_with_a_mesh_is_said_with_its_key(tmp_path):
    """What is wrong with a mesh is said with its key."""
    scene("y").export(tmp_path / "model.glb")
    (tmp_path / "torn.glb").write_bytes((tmp_path / "model.glb").read_bytes()[:200])
    (tmp_path / "model.obj").write_text("v 0 0 0\n")
    crooked = {
        "circle": [{"children": [1]}, {"children": [0], "mesh": 0}],
        "many": [{"mesh": 0}] * 100_000,
        "parents": [{"children": [2]}, {"children": [2]}, {"mesh": 0}],
    }
    for name, nodes in crooked.items():
        text = {"asset": {"version": "2.0"}, "nodes": nodes, "scenes": [{"nodes": [0]}], "scene": 0}
        (tmp_path / f"{name}.gltf").write_text(json.dumps(text))
    for arguments, told in (
        (("gone.glb",), "mesh.file: gone.glb is not there"),
        (("torn.glb",), "mesh.file: torn.glb: is no glTF 2.0 file"),
        (("circle.gltf",), "mesh.file: circle.gltf: nodes: some are their own ancestors"),
        (("parents.gltf",), r"mesh.file: parents.gltf: nodes.2.: has two parents, nodes 0 and 1"),
        (("many.gltf",), "mesh.file: many.gltf: nodes: 100,000 of them; at most 20,000"),
        (("model.obj",), "mesh.up: .obj doesn't say which axis points up"),
        (("model.glb", "", '"wall*" = "stone"'), "no surface 'stone'"),
        (("model.glb", "", '"roof*" = "brick"'), "no pattern fits anything in model.glb; its names are pane"),
        (("model.glb", "", '"wall*" = "brick"'), "no pattern fits pane"),
    ):
        with pytest.raises(RulesError, match=told.replace("*", r"\*")):
            tinclock.load_level(level_file(tmp_path, *arguments))


def test_the_command_looks_a_level_over_and_draws_it(tmp_path):
    """The command looks a level over and draws it."""
    scene("y").export(tmp_path / "model.glb")
    file = level_file(tmp_path, "model.glb", "", '"wall*" = "brick"')
    done = CliRunner().invoke(main, ["level", file, "--image", str(tmp_path / "top.png"), "--json"])
    report = json.loads(done.output)
    assert report["triangles"] == {"brick": 24, "glass": 0}
    assert report["unnamed"][0].startswith("pane")
    assert (tmp_path / "top.png").stat().st_size > 5000
    assert "no surface for" in CliRunner().invoke(main, ["level", file]).output
