"""A character and a level from glTF files, all the way to a ruled shot. Both files are made here, by script."""

from __future__ import annotations

import base64
import json
import tempfile
from pathlib import Path

import msgspec
import numpy as np
import trimesh

import tinclock
from tinclock.meshes import fit_rig, read_clips, read_skin
from tinclock.sample import data_file

# A scarecrow in glTF's frame (y up, facing +z, its left at +x): where each joint lies, and the straw around it.
JOINTS = {"Hips": (0.0, 0.95, 0.0), "Spine": (0.0, 1.1, 0.0), "Head": (0.0, 1.55, 0.0)}
PARENTS = {"Spine": "Hips", "Head": "Spine"}
STRAW = {
    "Hips": ((0.0, 0.95, 0.0), trimesh.creation.box((0.3, 0.16, 0.2)).subdivide().subdivide()),
    "Spine": ((0.0, 1.25, 0.0), trimesh.creation.box((0.38, 0.42, 0.22)).subdivide().subdivide()),
    "Head": ((0.0, 1.65, 0.0), trimesh.creation.icosphere(2, 0.13)),
}
DOWN, OUT = (trimesh.transformations.rotation_matrix(np.pi / 2, axis) for axis in ((1, 0, 0), (0, 1, 0)))
LIMBS = {  # what each hangs on, where its joint lies and its middle, how long and thick it is, which way it points
    "UpperArm": ("Spine", (0.22, 1.42), (0.36, 1.42), (0.18, 0.055), OUT),
    "ForeArm": ("UpperArm", (0.5, 1.42), (0.64, 1.42), (0.2, 0.045), OUT),
    "Thigh": ("Hips", (0.1, 0.9), (0.1, 0.69), (0.28, 0.085), DOWN),
    "Shin": ("Thigh", (0.1, 0.48), (0.1, 0.24), (0.34, 0.065), DOWN),
}
for _side, _x in (("Left", 1.0), ("Right", -1.0)):
    for _limb, (_parent, _joint, _middle, _size, _turn) in LIMBS.items():
        JOINTS[_side + _limb] = (_x * _joint[0], _joint[1], 0.0)
        PARENTS[_side + _limb] = _parent if _parent in JOINTS else _side + _parent
        _limb_of_straw = trimesh.creation.capsule(*_size, count=(12, 12), transform=_turn)
        STRAW[_side + _limb] = ((_x * _middle[0], _middle[1], 0.0), _limb_of_straw)


def write_character(path: Path) -> None:
    """A skinned mesh as a modelling program writes it, with its buffer inside the file."""
    points = [straw.vertices - straw.bounds.mean(0) + middle for middle, straw in STRAW.values()]
    owner = np.repeat(range(len(points)), [len(each) for each in points])
    bind = np.tile(np.eye(4), (len(JOINTS), 1, 1))
    bind[:, :3, 3] = list(JOINTS.values())
    joints, calibration = np.zeros((len(owner), 4), "u1"), np.zeros((len(owner), 4), "<f4")
    joints[:, 0], calibration[:, 0] = owner, 1.0
    inverse = np.linalg.inv(bind).transpose(0, 2, 1).reshape(-1, 16).astype("<f4")
    keys = np.array([0.0, 0.25, 0.5], "<f4")  # about x: the head goes forward and back
    nod = np.array([(0, 0, 0, 1), (0.26, 0, 0, 0.966), (0, 0, 0, 1)], "<f4")
    arrays = [(np.concatenate(points).astype("<f4"), 5126, "VEC3"), (joints, 5121, "VEC4"), (calibration, 5126, "VEC4"),
              (inverse, 5126, "MAT4"), (keys, 5126, "SCALAR"), (nod, 5126, "VEC4")]  # fmt: skip
    data, views, accessors = b"", [], []
    for k, (array, kind, shape) in enumerate(arrays):
        views.append({"buffer": 0, "byteOffset": len(data), "byteLength": array.nbytes})
        accessors.append({"bufferView": k, "componentType": kind, "count": len(array), "type": shape})
        data += array.tobytes() + b"\0" * (-array.nbytes % 4)
    names = list(JOINTS)
    nodes = [{"name": n, "children": [names.index(c) for c, p in PARENTS.items() if p == n]} for n in names]
    for name, node in zip(names, nodes, strict=True):  # a node lies where its parent says, plus so much
        up = JOINTS.get(PARENTS.get(name, ""), (0.0, 0.0, 0.0))
        node["translation"] = [a - b for a, b in zip(JOINTS[name], up, strict=True)]
    target = {"node": names.index("Head"), "path": "rotation"}
    clip = {"name": "nod", "samplers": [{"input": 4, "output": 5}], "channels": [{"sampler": 0, "target": target}]}
    uri = "data:application/octet-stream;base64," + base64.b64encode(data).decode()
    path.write_text(json.dumps({
        "asset": {"version": "2.0"}, "nodes": [*nodes, {"mesh": 0, "skin": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "JOINTS_0": 1, "WEIGHTS_0": 2}}]}],
        "skins": [{"joints": list(range(len(names))), "inverseBindMatrices": 3}], "animations": [clip],
        "buffers": [{"uri": uri, "byteLength": len(data)}], "bufferViews": views, "accessors": accessors,
    }))  # fmt: skip


def write_level(folder: Path) -> Path:
    """A yard of 20 m with a hedge across it, and the level file that says what its names mean."""
    scene = trimesh.Scene()
    for name, size, at in (("Ground", (20, 0.2, 20), (0, -0.1, 0)), ("Hedge.001", (4, 1.5, 0.6), (6, 0.75, 0))):
        place = trimesh.transformations.translation_matrix(at)
        scene.add_geometry(trimesh.creation.box(size), node_name=name, transform=place)
    scene.export(folder / "yard.glb")
    text = 'schema = 1\n[surfaces.soil]\n[surfaces.hedge]\n[mesh]\nfile = "yard.glb"\n'
    (folder / "yard.toml").write_text(text + '[mesh.names]\n"Ground*" = "soil"\n"Hedge*" = "hedge"\n')
    return folder / "yard.toml"


def main() -> None:
    """Two scarecrows, one shot that meets a head, and one that a hedge stops."""
    folder = Path(tempfile.mkdtemp())
    write_character(folder / "scarecrow.gltf")
    skin = read_skin(folder / "scarecrow.gltf")
    rig, fits = fit_rig(skin)
    print(*(f"{fit.part}: {fit.shape}, {100 * fit.covered:.0f} % of {fit.vertices} vertices" for fit in fits), sep="\n")
    garden = tinclock.load_rules(data_file("garden.toml"))  # its weapons will do
    rules = msgspec.structs.replace(garden, rigs={"scarecrow": rig})
    referee = tinclock.Referee(rules, level=tinclock.load_level(write_level(folder)), seed=7)
    teams = enumerate(("copper", "pewter"))
    who = [referee.admit(connection=f"c{k}", account=f"a{k}", team=team, rig="scarecrow") for k, team in teams]
    body, (nod,) = referee.history.rigs["scarecrow"], read_clips(folder / "scarecrow.gltf")
    quarter = np.sqrt(0.5)  # a body faces +x; turned by a quarter to its right it faces -y
    for tick in range(33):  # the first one stands still, the second one comes nearer and nods
        still = tinclock.rooted_bones(body, [[0, 4, 0, 0, 0, -quarter, quarter]])
        place = [0, tick / 64 - 4, 0, 0, 0, quarter, quarter]
        nods = tinclock.rooted_bones(body, [place], nod.poses([tick / 64 % nod.seconds])[0])
        referee.record(tick, tick / 64, who, np.concatenate([still, nods]))
        if tick % 2 == 0:
            referee.snapshot_sent(tick)
    eye, view = np.array(referee.history.eye_now(who[0])), tinclock.View(22, 24, 0.5)
    head = referee.history.bones_at(who[1], view)[2, :3]
    for number, aim in enumerate((head, np.array([6.0, 0.0, 0.75])), 1):  # its x, -z, y are x, y, z here
        way = (aim - eye) / np.linalg.norm(aim - eye)
        claim = tinclock.claims.ShotClaim(number, who[0], "grit_rifle", tuple(eye.tolist()), tuple(way.tolist()), view)
        ruling = referee.rule("c0", claim, received_at=0.3 + number / 5)
        hit = ruling.hits[0].part if ruling.hits else f"nobody, stopped by {ruling.stopped_by.name}"
        print(f"shot {number}: {ruling.outcome}, {hit}, {ruling.damage:.1f} points")


if __name__ == "__main__":
    main()
