"""Rigs from glTF: a gardener's hitboxes, skinned as a modeller's program writes them, come back fitted."""

from __future__ import annotations

import base64
import json
import math
import sys
import tomllib
from pathlib import Path

import msgspec
import numpy as np
import pytest
import trimesh
from click.testing import CliRunner
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation, Slerp

import tinclock
from tinclock.cli.main import main
from tinclock.core.geometry.rig import Rig
from tinclock.core.timeline.hitboxes import pose_hitboxes
from tinclock.errors import RulesError
from tinclock.garden.scenario import data_file
from tinclock.intake.meshes.clip_file import read_clips
from tinclock.intake.meshes.mesh_file import UPRIGHT
from tinclock.intake.meshes.rig_fit import fit_rig, named, unusual_in
from tinclock.intake.meshes.skin_file import FORWARD, Skin, read_skin

sys.path.insert(0, str(Path(__file__).parents[1] / "examples"))
LEGS = {"thigh": "UpLeg", "shin": "Calf", "foot": "Foot"}


def joint_name(bone: str) -> str:
    """As a modelling program calls it: LeftUpArm, Spine."""
    side, _, rest = bone.partition("_") if bone.startswith(("left_", "right_")) else ("", "", bone)
    return "hero:" + side.capitalize() + "".join(word.capitalize() for word in rest.split("_"))


def skinned(rules: tinclock.Rules, path, seed: int = 3):
    """The gardener's parts as a skinned mesh in a .gltf file; returns the joints' turns at rest (body frame)."""
    rig, table = Rig("gardener", rules.rigs["gardener"]), rules.rigs["gardener"]
    rest = np.hstack([rig.rest, np.tile([0.0, 0.0, 0.0, 1.0], (len(rig.rest), 1))])
    boxes = pose_hitboxes(rig, rest, 1, 0.0)
    vertices, owner = [], []
    for k, part in enumerate(table.parts):
        size = boxes.sizes[k]
        made = {
            "sphere": lambda s=size: trimesh.creation.icosphere(2, s[0]),
            "box": lambda s=size: trimesh.creation.box(2 * s).subdivide().subdivide(),
            "capsule": lambda s=size: trimesh.creation.capsule(2 * s[0], s[1]),
        }[part.shape]()
        points = made.vertices - (made.bounds.mean(0) if part.shape == "capsule" else 0.0)
        vertices.append(points @ boxes.axes[k].T + boxes.centres[k])
        owner.append(np.full(len(points), rig.bone_of[k]))
    points, owner = np.concatenate(vertices) @ FORWARD, np.concatenate(owner)
    turns = Rotation.random(len(rig.bones), np.random.default_rng(seed)).as_matrix()
    binds = np.tile(np.eye(4), (len(rig.bones), 1, 1))
    binds[:, :3, :3], binds[:, :3, 3] = turns, rig.rest @ FORWARD
    weights = np.zeros((len(points), 4))
    weights[:, 0], weights[:, 1] = 0.8, 0.2
    joints = np.zeros((len(points), 4), "<u2")
    joints[:, 0], joints[:, 1] = owner, (owner + 1) % len(rig.bones)
    arrays = [
        (points.astype("<f4"), 5126, "VEC3"), (joints, 5123, "VEC4"),
        (np.round(weights * 255).astype("u1"), 5121, "VEC4"),
        (np.linalg.inv(binds).transpose(0, 2, 1).reshape(-1, 16).astype("<f4"), 5126, "MAT4"),
    ]  # fmt: skip
    data, views, accessors = b"", [], []
    for k, (array, kind, shape) in enumerate(arrays):
        views.append({"buffer": 0, "byteOffset": len(data), "byteLength": array.nbytes})
        accessors.append(
            {"bufferView": k, "componentType": kind, "count": len(array), "type": shape, "normalized": k == 2}
        )
        data += array.tobytes() + b"\0" * (-array.nbytes % 4)
    nodes = [{"name": joint_name(bone)} for bone in rig.bones] + [{"mesh": 0, "skin": 0}]
    parents = {"neck": "chest", "head": "neck", "abdomen": "pelvis", "chest": "abdomen"}
    for side in ("left", "right"):
        chain = ["chest", *(f"{side}_{b}" for b in ("shoulder", "upper_arm", "forearm", "hand"))]
        chain2 = ["pelvis", *(f"{side}_{b}" for b in ("thigh", "shin", "foot"))]
        parents |= dict(zip(chain[1:], chain, strict=False)) | dict(zip(chain2[1:], chain2, strict=False))
    for child, parent in parents.items():
        nodes[rig.bones.index(parent)].setdefault("children", []).append(rig.bones.index(child))
    uri = "data:application/octet-stream;base64," + base64.b64encode(data).decode()
    primitive = {"attributes": {"POSITION": 0, "JOINTS_0": 1, "WEIGHTS_0": 2}}
    document = {
        "asset": {"version": "2.0"}, "nodes": nodes, "meshes": [{"primitives": [primitive]}],
        "skins": [{"joints": list(range(len(rig.bones))), "inverseBindMatrices": 3}],
        "buffers": [{"uri": uri, "byteLength": len(data)}], "bufferViews": views, "accessors": accessors,
    }  # fmt: skip
    path.write_text(json.dumps(document))
    return document, binds


def test_the_hitboxes_that_a_mesh_was_made_of_come_back(rules, tmp_path):
    """Each part covered, with little air, on its side; two thousand rays meet the same bodies at the same distance."""
    skinned(rules, tmp_path / "hero.gltf")
    skin = read_skin(tmp_path / "hero.gltf")
    found, fits = fit_rig(skin)
    assert len(fits) == 19
    assert min(fit.covered for fit in fits) > 0.95
    assert max(fit.air for fit in fits) < 0.35
    original = rules.rigs["gardener"]
    assert {(p.name, p.side) for p in found.parts} == {(p.name, p.side) for p in original.parts}
    zones = {p.name: p.zone for p in original.parts}
    assert [p.name for p in found.parts if p.zone != zones[p.name]] == []
    histories = []
    for table in (original, found):
        history = tinclock.PoseHistory({"body": Rig("body", table)})
        history.add(1, "body")
        rest = np.hstack([np.array([b.rest for b in table.bones]), np.tile([0, 0, 0, 1.0], (19, 1))])
        history.record(0, 0.0, [1], rest[None])
        history.publish(0)
        histories.append(history)
    rng = np.random.default_rng(2)
    targets = rng.uniform((-0.15, -0.3, 0.0), (0.15, 0.3, 1.75), (2000, 3))
    origins = targets + rng.normal(size=(2000, 3)) * 4.0
    ways = (targets - origins) / np.linalg.norm(targets - origins, axis=1, keepdims=True)
    ours, theirs = (h.nearest_many(origins, ways, [0] * 2000, [0] * 2000, [0.0] * 2000) for h in histories[::-1])
    both = np.isfinite(ours.distance_m) & np.isfinite(theirs.distance_m)
    assert both.mean() > 0.2
    assert (np.isfinite(ours.distance_m) == np.isfinite(theirs.distance_m)).mean() > 0.97
    assert np.quantile(np.abs(ours.distance_m[both] - theirs.distance_m[both]), 0.95) < 0.02


def test_joints_in_any_pose_become_the_bones_that_the_referee_takes(rules, tmp_path):
    """Joints are turned at rest as the modeller liked; bones carry only what has turned since."""
    _, binds = skinned(rules, tmp_path / "hero.gltf")
    skin = read_skin(tmp_path / "hero.gltf")
    rng = np.random.default_rng(5)
    turned, moved = Rotation.random(19, rng), rng.normal(size=(19, 3))
    world = np.tile(np.eye(4), (19, 1, 1))
    world[:, :3, :3] = UPRIGHT["y"].T @ turned.as_matrix() @ FORWARD @ binds[:, :3, :3]
    world[:, :3, 3] = moved @ UPRIGHT["y"]
    bones = skin.bones(world)
    np.testing.assert_allclose(bones[:, :3], moved, atol=1e-9)
    assert max((Rotation.from_quat(bones[:, 3:]) * turned.inv()).magnitude()) < 1e-5


def test_every_hitbox_holds_what_it_is_fitted_to_also_where_vertices_lie_at_rims_only():
    """Cylinders and cones without a vertex between their ends, plates, random clouds: 95 % inside, always."""
    rng = np.random.default_rng(7)
    around = np.linspace(0.0, 2.0 * np.pi, 25)[:-1]
    ring = np.stack([np.cos(around), np.sin(around), np.zeros(24)], 1)
    clouds = [np.vstack([0.1 * ring, 0.1 * ring + [0, 0, 0.9]]), np.vstack([0.2 * ring, [[0, 0, 0.5]] * 3])]
    clouds += [rng.uniform(-1, 1, (80, 3)) * scale for scale in ((1, 1, 1), (1, 0.1, 0.1), (1, 1, 1e-4), (1e-4,) * 3)]
    clouds += [rng.normal(size=(200, 3)) @ rng.normal(size=(3, 3)) for _ in range(20)]
    for points in clouds:
        skin = Skin(("bone",), np.array([-1]), np.zeros((1, 3)), np.eye(3)[None], points, np.zeros(len(points), int))
        _, (fit,) = fit_rig(skin)
        assert fit.covered > 0.95, fit


def bound(names: tuple[str, ...], vertices: np.ndarray, scale: float = 1.0) -> Skin:
    """A skin whose joints stand above each other, each with the same vertices around it."""
    count = len(names)
    rest = np.array([[0.0, 0.0, 0.5 * k] for k in range(count)]) * scale
    points = np.concatenate([vertices * scale + place for place in rest])
    return Skin(
        names, np.arange(-1, count - 1), rest, np.tile(np.eye(3), (count, 1, 1)), points,
        np.repeat(np.arange(count), len(vertices)),
    )  # fmt: skip


@pytest.mark.parametrize("turn_deg", [0.0, 17.0, 45.0])
@pytest.mark.parametrize("scale", [0.3, 1.0, 3.0, 100.0])
def test_a_box_with_two_equal_sides_is_fitted_alike_at_every_scale(scale, turn_deg):
    """Where a square beam lies doesn't hang on rounding: size, turn and cover are those of scale 1."""
    beam = trimesh.creation.box((0.2, 0.2, 0.8)).subdivide().subdivide().vertices
    beam = beam @ Rotation.from_euler("z", turn_deg, degrees=True).as_matrix().T
    rules, fits = fit_rig(bound(("spine",), beam, scale))
    part = rules.parts[0]
    assert (part.shape, fits[0].covered > 0.99) == ("box", True)
    assert sorted(np.array(part.half_size_m) / scale) == pytest.approx([0.1, 0.1, 0.4], abs=0.003 + 1e-4 / scale)
    axes = Rotation.from_quat(part.rotation).as_matrix()
    off = np.degrees(np.arctan2(axes[1], axes[0]))[np.abs(axes[2]) < 0.5] - turn_deg
    assert np.abs((off + 45.0) % 90.0 - 45.0).max() < 1.0


@pytest.mark.parametrize(
    ("names", "scale", "said"),
    [
        (("root", "head"), 1.0, []),
        (("root", "head"), 100.0, ["--metres-per-unit 0.01"]),
        (("root", "head"), 0.01, ["other units"]),
        (("Bone_001", "Bone_002"), 1.0, ['"torso": Bone_001, Bone_002', "no hitbox is a head"]),
        (("root", "spine"), 1.0, ["no hitbox is a head"]),
    ],
)
def test_a_character_that_is_probably_not_meant_so_is_told(names, scale, said):
    """Centimetres, names that say nothing and a body without a head are each said in one line, and nothing else is."""
    skin = bound(names, trimesh.creation.icosphere(2, 0.2).vertices, scale)
    lines = unusual_in(skin, fit_rig(skin)[0])
    assert len(lines) == len(said)
    assert all(text in line for text, line in zip(said, lines, strict=True))


@pytest.mark.parametrize("some", [False, True])
def test_vertices_without_weights_are_no_cover(rules, tmp_path, some):
    """A character whose weights are all zero is refused; single vertices without any are left out and counted."""
    skinned(rules, tmp_path / "hero.gltf")
    document = json.loads((tmp_path / "hero.gltf").read_text())
    view = document["bufferViews"][2]
    start, data = document["buffers"][0]["uri"].split(",", 1)
    raw = bytearray(base64.b64decode(data))
    length = 40 if some else view["byteLength"]
    raw[view["byteOffset"] : view["byteOffset"] + length] = bytes(length)
    document["buffers"][0]["uri"] = f"{start},{base64.b64encode(bytes(raw)).decode()}"
    (tmp_path / "bare.gltf").write_text(json.dumps(document))
    done = CliRunner().invoke(main, ["rig", str(tmp_path / "bare.gltf")])
    said = "10 vertices have no weights" if some else "all WEIGHTS_0 of the first skin are 0"
    assert (done.exit_code == 0, said in done.output) == (some, True), done.output


def test_fewer_parts_hold_the_same_vertices_and_a_mapping_overrules_guesses(rules, tmp_path):
    """Fewer parts hold the same vertices and a mapping overrules guesses."""
    skinned(rules, tmp_path / "hero.gltf")
    skin = read_skin(tmp_path / "hero.gltf")
    _, fits = fit_rig(skin, 8)
    assert len(fits) == 8
    assert sum(fit.vertices for fit in fits) == len(skin.vertices)
    found, _ = fit_rig(skin, 20, {"hero:Head": {"name": "helmet", "zone": "hat"}, "hero:LeftFoot": {"part": "none"}})
    assert {("helmet", "hat")} <= {(p.name, p.zone) for p in found.parts}
    assert "left_foot" not in {p.name for p in found.parts}


@pytest.mark.parametrize(
    ("joint", "expected"),
    [("LeftForeArm", ("left_fore_arm", "left", "arm")), ("Body R Thigh", ("right_body_thigh", "right", "leg")),
     ("spine.002", ("spine_002", "middle", "torso")), ("hand_l", ("left_hand", "left", "arm")),
     ("rig:Head", ("head", "middle", "head")), ("upper_arm.R", ("right_upper_arm", "right", "arm")),
     ("", ("bone", "middle", "torso"))],
)  # fmt: skip
def test_names_are_read_as_modelling_programs_write_them(joint, expected):
    """Names are read as modelling programs write them."""
    assert named(joint)[:3] == expected


def test_what_a_file_lacks_is_said(rules, tmp_path):
    """What a file lacks is said."""
    document, _ = skinned(rules, tmp_path / "hero.gltf")
    for change, told in (
        ({"skins": []}, "skins: none"),
        ({"meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}]}, "no vertices with"),
        ({"accessors": [{**a, "sparse": {}} for a in document["accessors"]]}, "sparse or compressed"),
        ({"accessors": [{**a, "count": 10**7} for a in document["accessors"]]}, "can't be read"),
        ({"buffers": [{"uri": "../../secret.bin"}]}, "leads out of the folder"),
    ):  # fmt: skip
        (tmp_path / "bad.gltf").write_text(json.dumps({**document, **change}))
        with pytest.raises(RulesError, match=told):
            read_skin(tmp_path / "bad.gltf")
    for data in (b"glTF", b"{", b"glTF\2\0\0\0\0\0\0\0\xff\xff\xff\xffJSON"):
        (tmp_path / "bad.glb").write_bytes(data)
        with pytest.raises(RulesError, match="no glTF"):
            read_skin(tmp_path / "bad.glb")


def test_the_command_writes_a_table_that_rules_take_and_draws_it(rules, tmp_path):
    """The command writes a table that rules take and draws it."""
    skinned(rules, tmp_path / "hero.gltf")
    files = ("--out", tmp_path / "hero.toml", "--image", tmp_path / "hero.png")
    done = CliRunner().invoke(main, ["rig", *map(str, (tmp_path / "hero.gltf", *files))])
    assert done.exit_code == 0, done.output
    assert "left_upper_arm" in done.output
    assert (tmp_path / "hero.png").stat().st_size > 20_000
    table = tomllib.loads((tmp_path / "hero.toml").read_text())
    garden = tomllib.loads(data_file("garden.toml").read_text(encoding="utf-8"))
    made = tinclock.parse_rules({**garden, **table})
    assert len(made.rigs["hero"].parts) == 19
    (tmp_path / "names.toml").write_text('["nobody"]\nname = "x"\n')
    done = CliRunner().invoke(main, ["rig", str(tmp_path / "hero.gltf"), "--names", str(tmp_path / "names.toml")])
    assert "no joint 'nobody'" in done.output


def with_clip(document, binds, path, way):
    """The document with its nodes placed, under an armature that is moved and scaled, and a clip of one shoulder."""
    names = [node.get("name") for node in document["nodes"]]
    parents = {child: number for number, node in enumerate(document["nodes"]) for child in node.get("children", ())}
    for number in range(19):
        up = np.linalg.inv(binds[parents[number]]) if number in parents else np.eye(4)
        local = up @ binds[number]
        document["nodes"][number]["translation"] = local[:3, 3].tolist()
        document["nodes"][number]["rotation"] = Rotation.from_matrix(local[:3, :3]).as_quat().tolist()
    arm = names.index(joint_name("left_upper_arm"))
    document["nodes"].append({"name": "armature", "children": [n for n in range(19) if n not in parents]})
    start = Rotation.from_quat(document["nodes"][arm]["rotation"])
    keys = [
        start,
        start * Rotation.from_euler("y", 80, degrees=True),
        start * Rotation.from_euler("x", 60, degrees=True),
    ]
    values = np.array([key.as_quat() for key in keys])
    if way == "CUBICSPLINE":
        values = np.stack([np.zeros((3, 4)), values, np.zeros((3, 4))], 1).reshape(-1, 4)
    for array, kind in ((np.array([0.0, 0.5, 1.5]), "SCALAR"), (values, "VEC4")):
        data = array.astype("<f4").tobytes()
        document["accessors"].append({"bufferView": len(document["bufferViews"]), "componentType": 5126,
                                      "count": len(array), "type": kind})  # fmt: skip
        document["bufferViews"].append({"buffer": len(document["buffers"]), "byteLength": len(data)})
        uri = "data:application/octet-stream;base64," + base64.b64encode(data).decode()
        document["buffers"].append({"uri": uri, "byteLength": len(data)})
    last = len(document["accessors"])
    sampler = {"input": last - 2, "output": last - 1, "interpolation": way}
    channel = {"sampler": 0, "target": {"node": arm, "path": "rotation"}}
    document["animations"] = [{"name": "wave", "samplers": [sampler], "channels": [channel]}]
    path.write_text(json.dumps(document))
    return arm, keys


@pytest.mark.parametrize("way", ["STEP", "LINEAR", "CUBICSPLINE"])
def test_a_clip_moves_what_hangs_on_the_joint_that_it_turns(rules, tmp_path, way):
    """The arm and all below it turn about the shoulder as SciPy's rotations say; everything else rests."""
    document, binds = skinned(rules, tmp_path / "hero.gltf")
    arm, keys = with_clip(document, binds, tmp_path / "hero.gltf", way)
    (clip,) = read_clips(tmp_path / "hero.gltf")
    assert (clip.name, clip.seconds) == ("wave", 1.5)
    times = np.array([0.0, 0.2, 0.5, 1.0, 9.0])
    poses, rest = clip.poses(times), clip.poses([0.0])[0]
    skin = read_skin(tmp_path / "hero.gltf")
    np.testing.assert_allclose(rest[:, :3], skin.rest, atol=1e-5)
    assert max((Rotation.from_quat(rest[:, 3:])).magnitude()) < 1e-5
    below = {arm}
    for joint, parent in enumerate(skin.parents.tolist()):  # parents lie before their children here
        if parent in below:
            below.add(joint)
    share = {"STEP": (0, 0, 1, 1, 2), "LINEAR": (0, 0.4, 1, 1.5, 2), "CUBICSPLINE": (0, 0.352, 1, 1.5, 2)}[way]
    for pose, at in zip(poses, share, strict=True):
        first = min(int(at), 1)
        here = Slerp([0, 1], Rotation.concatenate(keys[first : first + 2]))(at - first)
        if way == "CUBICSPLINE":  # the spline runs between the numbers of the quaternions
            a, b = (k.as_quat() for k in keys[first : first + 2])
            here = Rotation.from_quat(a + (at - first) * (b - a))
        own, parent = binds[arm][:3, :3], binds[arm][:3, :3] @ keys[0].as_matrix().T
        since = FORWARD @ (parent @ here.as_matrix()) @ own.T @ FORWARD.T
        for joint in range(19):
            moved = skin.rest[arm] + since @ (skin.rest[joint] - skin.rest[arm]) if joint in below else skin.rest[joint]
            np.testing.assert_allclose(pose[joint, :3], moved, atol=1e-5)
            turned = Rotation.from_matrix(since) if joint in below else Rotation.identity()
            assert (Rotation.from_quat(pose[joint, 3:]) * turned.inv()).magnitude() < 1e-4


def test_a_clip_that_cannot_be_read_says_where(rules, tmp_path):
    """A clip that can't be read says where."""
    document, binds = skinned(rules, tmp_path / "hero.gltf")
    with_clip(document, binds, tmp_path / "hero.gltf", "WAVY")
    told = CliRunner().invoke(main, ["rig", str(tmp_path / "hero.gltf")])
    assert told.exit_code == 1
    assert "animations[0]: node" in told.output
    assert "interpolation 'WAVY'" in told.output


def test_a_character_and_a_level_from_files_go_all_the_way_to_a_recorded_match(rules, tmp_path):
    """Two scarecrows nod and walk in a yard for four seconds and shoot at heads; ruled again it is the same match."""
    from bring_a_gltf import write_character, write_level

    write_character(tmp_path / "hero.gltf")
    (nod,), (fitted, _) = read_clips(tmp_path / "hero.gltf"), fit_rig(read_skin(tmp_path / "hero.gltf"))
    level = tinclock.load_level(write_level(tmp_path))
    endless = msgspec.structs.replace(rules.match, health=1e6)
    rules = msgspec.structs.replace(rules, rigs={"hero": fitted}, match=endless)
    referee, hits = tinclock.Referee(rules, level=level, seed=3), []
    with tinclock.recordings.Recorder(tmp_path / "yard", referee) as to:
        who = [to.admit(connection=f"c{k}", account=f"a{k}", team=t, rig="hero", weapon="grit_rifle")
               for k, t in enumerate(("copper", "pewter"))]  # fmt: skip
        body, quarter = referee.history.rigs["hero"], math.sqrt(0.5)
        for tick in range(256):
            pose = nod.poses([tick / 64 % nod.seconds])[0]
            roots = [[tick / 128, 4, 0, 0, 0, -quarter, quarter], [0, -4, 0, 0, 0, quarter, quarter]]
            to.record(tick, tick / 64, who, tinclock.rooted_bones(body, roots, pose))
            to.snapshot_sent(tick)
            if tick < 64 or tick % 16:
                continue
            for k in (0, 1):
                view = tinclock.View(tick - 6, tick - 5, 0.5)
                boxes = referee.history.hitboxes_at(who[1 - k], view)
                eye = np.array(referee.history.eye_now(who[k]))
                way = boxes.centres[boxes.parts.index("head")] - eye
                claim = tinclock.claims.ShotClaim((tick - 48) // 16, who[k], "grit_rifle", tuple(eye.tolist()),
                                           tuple((way / np.linalg.norm(way)).tolist()), view)  # fmt: skip
                hits += to.rule(f"c{k}", claim, received_at=tick / 64).hits
    assert [hit.part for hit in hits] == ["head"] * 24
    assert tinclock.recordings.replay(tinclock.recordings.Recording(tmp_path / "yard")).as_recorded


ANYTHING = [None, "", 0, -1, 1.5, 10**9, True, [], {}, "x", [0, 0, 0, 0], "MAT4", "VEC3", 5126, 5121, 1e300]


@settings(max_examples=200, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.randoms(use_true_random=False))
def test_whatever_a_file_says_it_is_read_or_refused_with_the_place(tmp_path, random):
    """A value anywhere in it replaced or taken out: a rig and its clips, or one error that names the file."""
    from bring_a_gltf import write_character

    path = tmp_path / "hero.gltf"
    write_character(path)
    inner = document = json.loads(path.read_text())
    while True:
        key = random.choice(list(inner) if isinstance(inner, dict) else range(len(inner)))
        if not isinstance(inner[key], (dict, list)) or not inner[key] or random.random() < 0.15:
            break
        inner = inner[key]
    if random.random() < 0.2:
        del inner[key]
    else:
        inner[key] = random.choice(ANYTHING)
    path.write_text(json.dumps(document))
    try:
        fitted, _ = fit_rig(read_skin(path))
        told = [Rig("hero", fitted), *(clip.poses([0.1]) for clip in read_clips(path))]
    except RulesError as error:
        told = str(error)
        assert "hero.gltf" in told or "rig" in told
    assert len(told)
