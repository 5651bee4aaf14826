"""Rules and level files: every mistake at once, each with its key path."""

from __future__ import annotations

import copy
import re
import tomllib

import pytest
from conftest import Range

import tinclock
from tinclock.core.analysis.lethality import lethality
from tinclock.errors import RulesError, UnknownNameError
from tinclock.garden.scenario import data_file

TABLES = tomllib.loads(data_file("garden.toml").read_text(encoding="utf-8"))


def changed(path: str, value: object) -> dict:
    """The garden's rules with one value changed; `path` is dotted, a number is a place in a list."""
    tables = copy.deepcopy(TABLES)
    at, keys = tables, path.split(".")
    for key in keys[:-1]:
        at = at[int(key)] if key.isdigit() else at[key]
    at[keys[-1]] = value
    return tables


MISTAKES = {
    "weapons.grit_rifle.damge": (5, "weapons.grit_rifle.damge: .*did you mean 'damage'"),
    "weapons.grit_rifle.damage": ("17", r"weapons.grit_rifle.damage: got '17' \(str\), expected a number at least 0"),
    "weapons.grit_rifle.interval_s": (0, r"interval_s: got 0 \(int\), expected a number at least 0.001"),
    "weapons.grit_rifle.kind": ("laser", "expected one of 'hitscan'"),
    "weapons.grit_rifle.falloff": ([[40.0, 1.0], [12.0, 0.5]], r"falloff: distances must rise, got \[40.0, 12.0\]"),
    "view.max_rewind_s": (float("nan"), r"view.max_rewind_s: got nan \(float\).*finite"),
    "match.history_s": (0.2, "view.max_rewind_s: 0.4 is more than match.history_s 0.2"),
    "actions": ({"view_layte": "flag"}, "actions.view_layte: no such finding; did you mean 'view_late'"),
    "rigs.gardener.parts.6.side": ("right", r"left_upper_arm\): side is 'right', but .* lies 0.205 m to its left"),
    "rigs.gardener.parts.0.bone": ("hat", r"parts\[0\] \(head\): no bone 'hat'"),
    "rigs.gardener.parts.0.shape": ("box", r"\(head\): a box needs half_size_m"),
    "rigs.gardener.parts.1.name": ("head", "the part name appears twice"),
    "rigs.gardener.eye": ({"bone": "nose"}, "eye.bone: no bone 'nose'"),
    "weapons": ({}, "weapons: at least one is needed"),
    "schema": (3, "schema: got 3"),
}  # fmt: skip


@pytest.mark.parametrize("path", MISTAKES)
def test_a_mistake_is_named_with_its_key_path_what_was_given_and_what_is_allowed(path):
    """A mistake is named with its key path, what was given and what is allowed."""
    value, message = MISTAKES[path]
    with pytest.raises(RulesError, match=message):
        tinclock.parse_rules(changed(path, value))


def test_all_mistakes_are_reported_at_once_with_the_files_name(tmp_path):
    """All mistakes are reported at once with the file's name."""
    file = tmp_path / "mine.toml"
    file.write_text('schema = 2\n[view]\nmax_rewind = 1\n[match]\nhealth = -3\n[weapons.rake]\nkind = "hitscan"\n')
    with pytest.raises(RulesError, match=r"mine\.toml: \d+ mistakes") as caught:
        tinclock.load_rules(file)
    text = "\n".join(caught.value.problems)
    for part in ("view.max_rewind:", "match.health: got -3", "weapons.rake.damage: missing", "rigs: missing"):
        assert part in text


def test_mistakes_of_values_do_not_hide_contradictions_between_other_tables():
    """Mistakes of values don't hide contradictions between other tables."""
    tables = changed("weapons.grit_rifle.damage", "17")
    tables["weapons"]["hose"]["victims"] = 3
    tables["actions"] = {"view_layte": "flag"}
    tables["rigs"]["gardener"]["parts"][6]["side"] = "right"
    tables["match"]["history_s"] = 0.2
    with pytest.raises(RulesError, match="5 mistakes") as caught:
        tinclock.parse_rules(tables)
    text = "\n".join(caught.value.problems)
    for part in ("weapons.grit_rifle.damage: got '17'", "weapons.hose.victims: only for kind 'reach'", "'view_late'",
                 "left_upper_arm", "view.max_rewind_s: 0.4 is more than match.history_s 0.2"):  # fmt: skip
        assert part in text


@pytest.mark.parametrize(
    ("content", "message"), [(None, "no such file"), ("schema = ", "is not TOML"), (b"\xff", "read")]
)
def test_a_file_that_cannot_be_read_is_one_clear_message(tmp_path, content, message):
    """A file that can't be read is one clear message."""
    file = tmp_path / "rules.toml"
    if content is not None:
        file.write_bytes(content if isinstance(content, bytes) else content.encode())
    with pytest.raises(RulesError, match=message):
        tinclock.load_rules(file)


def test_a_level_files_mistakes_are_named_too(tmp_path):
    """A level file's mistakes are named too."""
    file = tmp_path / "level.toml"
    file.write_text('schema = 1\n[surfaces.brick]\n[[boxes]]\ncentre=[0,0,0]\nsize=[1,1,1]\nsurface="brik"\n')
    with pytest.raises(RulesError, match=r"boxes\[0\]\.surface: no surface 'brik'; surfaces are brick"):
        tinclock.load_level(file)


def test_left_parts_lie_on_the_left_of_the_shipped_rig(rules):
    """Left parts lie on the left of the shipped rig."""
    rig = tinclock.Rig("gardener", rules.rigs["gardener"])
    assert len(rig.parts) == 19
    sides = {side: [p for p in rig.parts if p.side == side] for side in ("left", "right", "middle")}
    assert [len(sides[s]) for s in ("left", "right", "middle")] == [7, 7, 5]
    assert all(rig.rest[part.bone, 1] > 0 for part in sides["left"])


CONTRADICTIONS = {
    "weapons.trowel.cone_deg": (None, "weapons.trowel.radius_m: a melee weapon needs radius_m or cone_deg above 0"),
    "weapons.trowel.penetration": (3.0, "weapons.trowel.penetration: a melee weapon has none"),
    "weapons.grit_rifle.victims": (3, "weapons.grit_rifle.victims: only for kind 'reach'"),
    "weapons.grit_rifle.pellets": (3, "pellets: is 3, but kind is 'hitscan'"),
    "weapons.grit_rifle.reload_s": (3.0, "weapons.grit_rifle.reload_s: needs a magazine"),
    "weapons.grit_rifle.burst": (
        {"shots": 3, "interval_s": 0.5},
        "burst.interval_s: 0.5 must be below interval_s 0.18",
    ),
    "weapons.hose.recoil": ({"pattern_deg": []}, "recoil.pattern_deg: at least one entry is needed"),
    "items.oil_can.effect": ("shield", "items.oil_can.duration_s: effect 'shield' needs a time above 0"),
    "items.oil_can.amount": (0.0, "items.oil_can.amount: effect 'repair' needs an amount above 0"),
    "rigs.gardener.armour_zones": (["hat"], "rigs.gardener.armour_zones: no part has zone 'hat'; zones are arm, head"),
    "weapons.grit_rifle.projectile": (
        {"speed_m_s": 9.0},
        "weapons.grit_rifle.projectile: is needed for kind 'projectile'",
    ),
    "weapons.clod_mortar.penetration": (3.0, "clod_mortar.penetration: what flies doesn't pass the level"),
    "weapons.clod_mortar.projectile.passes": (9, "projectile.passes: got 9 .*at most 8"),
    "weapons.trowel.charge_s": (1.0, "weapons.trowel.charge_s: a melee weapon has no charge"),
    "weapons.grit_rifle.min_charge_fraction": (0.5, "weapons.grit_rifle.min_charge_fraction: needs charge_s above 0"),
    "weapons.clod_mortar.projectile.fuse_s": (9.0, "clod_mortar.projectile.fuse_s: 9 is longer than lifetime_s 6"),
    "weapons.clod_mortar.projectile.proximity_fuse_m": (
        0.01,
        "projectile.proximity_fuse_m: 0.01 must be more than radius_m 0.06",
    ),
    "weapons.clod_mortar.projectile.wind_m_s": ([1.0, 0.0, 0.0], "projectile.wind_m_s: is felt only with drag_per_m"),
    "weapons.clod_mortar.projectile.turn_deg_per_s": (9.0, "projectile.gravity_m_s2: must be 0 for what homes"),
    "weapons.clod_mortar.projectile.thrust_s": (1.0, "projectile.thrust_s: thrust_m_s2 and thrust_s go together"),
    "weapons.clod_mortar.projectile.drag_per_m": (-1.0, "projectile.drag_per_m: got -1.0 .*at least 0"),
    "weapons.clod_mortar.projectile.speed_m_s": (0.0, "projectile.speed_m_s: got 0.0 .*above 0"),
    "weapons.clod_mortar.projectile.bounce.restitution": (1.5, "bounce.restitution: got 1.5 .*at most 1"),
    "weapons.clod_mortar.splash.falloff": ([[3.0, 1.0], [1.0, 0.0]], "splash.falloff: distances must rise"),
    "damage": ({"armour": 200.0}, "damage.armour: 200 is more than damage.max_armour 100"),
    "damage.friendly_fire": (0.5, "damage.friendly_fire: got 0.5 .*expected one of 'none', 'scaled', 'reflected'"),
}


@pytest.mark.parametrize("path", CONTRADICTIONS)
def test_tables_that_contradict_each_other_are_refused(path):
    """Tables that contradict each other are refused."""
    value, message = CONTRADICTIONS[path]
    tables = changed(path, value)
    if value is None:
        del tables["weapons"]["trowel"]["cone_deg"], tables["weapons"]["trowel"]["radius_m"]
    with pytest.raises(RulesError, match=message):
        tinclock.parse_rules(tables)


ODD = {
    "weapons.grit_rifle.falloff": ([[1.0, 0.5], [9.0, 1.0]], r"falloff: rises with distance, \[0.5, 1.0\]"),
    "weapons.grit_rifle.damage": (0.0, "weapons.grit_rifle.damage: 0: it can't kill"),
    "weapons.gravel_scatter.damage": (0.2, "weapons.gravel_scatter.damage: all 25 shots .* it can't kill"),
    "weapons.grit_rifle.zones": ({"hat": 2.0, "head": 2.0}, "zones.hat: no rig has this zone"),
    "weapons.trowel.zones": ({"head": 2.0}, "weapons.trowel.zones: arm, leg, neck, torso not listed; counts 1"),
    "view.max_rewind_s": (0.05, r"view.max_rewind_s: 0.05 is less than two snapshots \(0.0625 s\)"),
    "match.history_s": (0.41, "match.history_s: 0.41 leaves less than two snapshots"),
    "weapons.hose.interval_s": (0.01, "weapons.hose.interval_s: 0.01 is short against fire_rate.tolerance_s"),
    "weapons.hose.spread.recovery_deg_per_s": (0.0, "spread.recovery_deg_per_s: 0: .* never comes back"),
    "damage": ({"friendly_fire": "scaled", "friendly_fraction": 0.0}, "damage.friendly_fraction: 0 makes"),
}


@pytest.mark.parametrize("path", ODD)
def test_what_is_legal_but_hardly_meant_is_said(path, tmp_path):
    """What is legal but hardly meant is said."""
    value, message = ODD[path]
    odd = tinclock.unusual_rules(tinclock.parse_rules(changed(path, value)))
    assert any(re.search(message, line) for line in odd), odd
    assert tinclock.unusual_rules(tinclock.parse_rules(changed("weapons.sprinkler_jet.for_clients", True))) == []


def test_hits_to_kill_are_counted_as_the_referee_would_rule_them(rules):
    """Every shot of the count leaves the victim alive but the last, in a real match, at the seconds that it says."""
    for zone, bone in (("torso", 2), ("head", 4)):
        row = next(r for r in lethality(rules, "gardener", 8.9) if (r.weapon, r.zone) == ("grit_rifle", zone))
        patient = {"match": {"history_s": 9.0}, "view": {"max_rewind_s": 9.0}}
        here, fatal = Range(rules, None, **patient), []
        for k in range(row.hits):
            fatal.append(here.shoot(bone=bone, late=0.18 * k).hits[0].lethal)
        assert fatal == [False] * (row.hits - 1) + [True]
        assert row.seconds == pytest.approx(0.18 * (row.hits - 1))
    with pytest.raises(UnknownNameError, match="unknown rig 'gnome'"):
        lethality(rules, "gnome")


@pytest.mark.parametrize(
    ("key", "value", "said"),
    [
        (("view", "max_rewind_s"), 250.0, "view.max_rewind_s: 250 s is more than games use (at most 1); "
         "if you meant milliseconds, write 0.25"),
        (("weapons", "grit_rifle", "interval_s"), 300.0, "if you meant milliseconds, write 0.3"),
        (("weapons", "grit_rifle", "range_m"), 4500.0, "if you meant centimetres, write 45"),
        (("weapons", "pebble_sling", "projectile", "speed_m_s"), 4000.0,
         "if you meant centimetres per second, write 40"),
        (("match", "tick_rate_hz"), 64000.0, "match.tick_rate_hz: 64000 per second is more than games use"),
        (("movement", "teleport_m"), 90000.0, "movement.teleport_m: 90000 m is more than games use (at most 100)"),
        (("rigs", "gardener", "parts", 0, "radius_m"), 14.0, "if you meant centimetres, write 0.14"),
        (("rigs", "gardener", "bones", 0, "rest"), [0.0, 0.0, 165.0], "if you meant centimetres, divide by 100"),
    ],
)  # fmt: skip
def test_values_beyond_anything_plausible_are_unusual_with_the_unit_that_was_meant(key, value, said):
    """A value that only another unit explains is told with its key and with what to write instead."""
    tables = copy.deepcopy(TABLES)
    tables["movement"] = {"speed_m_s": 5.0}
    tables["match"]["history_s"] = 300.0
    before = tinclock.unusual_rules(tinclock.parse_rules(tables))
    table = tables
    for name in key[:-1]:
        table = table[name]
    table[key[-1]] = value
    told = set(tinclock.unusual_rules(tinclock.parse_rules(tables))) - set(before)
    assert any(said in line for line in told), told
