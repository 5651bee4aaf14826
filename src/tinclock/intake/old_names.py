"""Names of version 0.2 and their replacements: keys of rules files, findings, commands, claims, and their values.

Rules files of 0.2 are refused with these names (`tinclock check --fix` rewrites them); recordings of 0.2 are read
through them.
"""

from __future__ import annotations

import re
import tomllib
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from tinclock.core.errors import RulesError
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Mapping

OUTCOMES: Final = {"upheld": "accepted", "amended": "adjusted", "denied": "rejected"}
ACTIONS: Final = {"note": "flag", "amend": "adjust", "deny": "reject"}
KINDS: Final = {"strike": "melee", "handle": "weapon_action", "flight": "projectile", "guide": "homing"}
"""Types of claims, rulings and events."""
CAUSES: Final = {"strike": "melee", "lasting": "damage_over_time"}
COMMANDS: Final = {
    "place": "add_entity", "put": "set_position", "cut": "mark_teleport", "harm": "damage", "wield": "set_weapon",
    "guide": "set_homing_target", "seen": "report_view", "set_drawing": "set_interpolation",
    "own_result": "report_server_result", "published": "snapshot_sent",
}  # fmt: skip
FINDINGS: Final = {
    "foreign_actor": "wrong_actor", "not_yet_owner": "control_too_recent", "absent_actor": "actor_missing",
    "unarmed": "weapon_not_carried", "fast_cadence": "fires_too_fast", "view_capped": "over_rewind_limit",
    "view_backwards": "view_backstep", "view_restless": "view_inconsistent", "lag_untold": "display_delay_unreported",
    "clock_restless": "clock_inconsistent", "two_faced_clock": "clock_mismatch", "needless": "no_effect",
    "foreign_projectile": "wrong_projectile", "flight_over": "projectile_over",
    "impact_place_differs": "impact_position_differs", "push_too_long": "input_too_long",
    "too_sharp": "turns_too_sharply", "old_news": "stale_health",
}  # fmt: skip
LABELS: Final = {"dials": "cheats", "lucky_numbers": "spread_number_picking"}
"""Keys and cheats in the labels of simulated matches."""
_KEYS: Final = {
    "consequences": "actions", "cadence": "fire_rate", "cadence.allowance_s": "tolerance_s",
    "cadence.most_skipped": "max_skipped", "harm": "damage", "harm.friendly_share": "friendly_fraction",
    "harm.self_share": "self_fraction", "harm.most_armour": "max_armour", "harm.armour_share": "armour_fraction",
    "match.enforce": "mode", "view.early_allowance_s": "early_tolerance_s",
    "view.late_allowance_s": "late_tolerance_s", "view.order_allowance_s": "max_view_backstep_s",
    "view.lag_allowance_s": "display_delay_tolerance_s", "view.sends_every_s": "max_send_delay_s",
    "view.two_faced_s": "clock_mismatch_tolerance_s", "score.assist_least": "min_assist_damage",
    "score.keep_leavers": "keep_disconnected", "movement.allowance_m": "tolerance_m",
    "movement.time_allowance_s": "time_tolerance_s", "status.health_slack": "health_tolerance",
    "status.ammunition_slack": "ammunition_tolerance", "status.position_slack_m": "position_tolerance_m",
    "rigs.*.worth": "kill_score", "weapons.*.lasting": "damage_over_time", "weapons.*.flight": "projectile",
    "weapons.*.charge_least": "min_charge_fraction", "weapons.*.behind_deg": "backstab_deg",
    "weapons.*.flight.claim_time_s": "claim_time_tolerance_s",
    "weapons.*.flight.claim_place_m": "claim_position_tolerance_m", "weapons.*.spread.most_deg": "max_deg",
    "weapons.*.flight.near_m": "proximity_fuse_m",
    "weapons.*.flight.owner_after_s": "owner_arm_s", "weapons.*.flight.owner_after_bounce": "owner_arms_at_bounce",
    "weapons.*.flight.fade_s": "blend_s", "weapons.*.flight.most_live": "max_live",
    "weapons.*.flight.impacts": "hit_source", "weapons.*.flight.bounce.until_m_s": "rest_below_m_s",
    "weapons.*.flight.bounce.most": "max_count", "weapons.*.splash.cover_share": "cover_fraction",
    "weapons.*.splash.sets_off": "detonates_others", "items.*.for_s": "duration_s",
    **{f"consequences.{old}": new for old, new in FINDINGS.items()},
}  # fmt: skip
_VALUES: Final[dict[str, dict[str, str]]] = {
    "match.enforce": {"yes": "live", "no": "shadow"}, "weapons.*.kind": {"reach": "melee"},
    "weapons.*.flight.compensation": {"launch": "catch_up", "fading": "blend"},
    "weapons.*.flight.impacts": {"swept": "server", "claimed": "client_confirmed"},
    "consequences.*": ACTIONS,
}  # fmt: skip
SCHEMA: Final = 1
"""Of rules files of 0.2."""


class Renamed(NamedTuple):
    """A key of a rules file of 0.2 with its path then and now; values : its value then and now, where that changed"""

    old: str
    new: str
    values: tuple[str, str] | None = None

    def __str__(self) -> str:
        values = "" if self.values is None else f"{self.values[0]!r} is now {self.values[1]!r}"
        if self.old == self.new:
            return f"{self.old}: {values}"
        return f"{self.old} is now {self.new}" + (f", and its value {values}" if values else "")


def _patterns(path: tuple[str, ...]) -> tuple[str, ...]:
    """Return the ways in which a path stands in the tables of names: as it is, and with a name left open."""
    return ".".join(path), ".".join((path[0], "*", *path[2:])) if len(path) > 1 else ""


def _find(table: Mapping[str, Any], path: tuple[str, ...]) -> Any:
    return next((table[one] for one in _patterns(path) if one in table), None)


def renamed_rules(tables: Fields) -> tuple[Fields, list[Renamed]]:
    """Return the tables of a rules file of 0.2 under their new names, and what was renamed."""
    found: list[Renamed] = []

    def walk(table: Fields, old: tuple[str, ...], new: tuple[str, ...]) -> Fields:
        out: Fields = {}
        for key, value in table.items():
            path = (*old, key)
            name = _find(_KEYS, path) or key
            now = (*new, name)
            value_now = value
            if isinstance(value, str):
                value_now = (_find(_VALUES, path) or {}).get(value, value)
            if name != key or value_now != value:
                values = None if value_now == value else (value, value_now)
                found.append(Renamed(".".join(path), ".".join(now), values))
            if isinstance(value, dict):
                out[name] = walk(value, path, now)
            elif isinstance(value, list):
                out[name] = [walk(one, path, now) if isinstance(one, dict) else one for one in value]
            else:
                out[name] = value_now
        return out

    whole = walk(tables, (), ())
    whole["schema"] = SCHEMA + 1
    return whole, found


_TOKEN: Final = re.compile(
    r"""(?P<text>\"\"\"(?:\\.|[^\\])*?\"\"\"|'''.*?'''|"(?:\\.|[^"\\\n])*"|'[^'\n]*')|(?P<comment>\#[^\n]*)"""
    r"""|(?P<header>^[ \t]*\[\[?[^\]\n]+\]\]?(?=[ \t\r]*(?:\#|$)))"""
    r"""|(?P<key>[A-Za-z0-9_-]+(?:[ \t]*\.[ \t]*[A-Za-z0-9_-]+)*)"""
    r"""(?=[ \t]*=)|(?P<brace>[{}])""",
    re.S | re.M,
)


def renamed_text(text: str, source: str) -> str:
    """Return a rules file of 0.2 as text with the new names; comments and order stay.

    Raises `RulesError` for text that isn't TOML, and for a file that has to be changed by hand.
    """
    try:
        expected, _ = renamed_rules(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise RulesError(source, [f"is not TOML: {error}"]) from None
    out, end, table, stack, at = list[str](), 0, tuple[str, ...](), list[tuple[str, ...]](), tuple[str, ...]()
    for token in _TOKEN.finditer(text):
        kind, found = str(token.lastgroup), token.group()
        out.append(text[end : token.start()])
        end = token.end()
        if kind == "header":
            names = [name.strip() for name in found.strip().strip("[]").split(".")]
            table = tuple(name.strip("\"'") for name in names)
            stack, at = [], table
            found = found.replace(found.strip().strip("[]"), ".".join(_path_now(table, names)))
        elif kind == "key":
            names = [name.strip() for name in found.split(".")]
            base = stack[-1] if stack else table
            at = (*base, *names)
            found = ".".join(_path_now(at, [*base, *names])[len(base) :])
            if at == ("schema",):
                out.append("schema = " + str(SCHEMA + 1))
                end += len(re.match(r"[ \t]*=[ \t]*\d+", text[end:])[0])  # type: ignore[index]
                found = ""
        elif kind == "brace":
            stack = [*stack, at] if found == "{" else stack[:-1]
            at = stack[-1] if stack else table
        elif kind == "text":
            value = (_find(_VALUES, at) or {}).get(found[1:-1]) if at else None
            found = found if value is None else f'"{value}"'
        out.append(found)
    done = "".join([*out, text[end:]])
    if tomllib.loads(done) != expected:
        raise RulesError(source, ["can't be rewritten in place; rename its keys by hand: `tinclock check` lists them"])
    return done


def _path_now(path: tuple[str, ...], names: list[str]) -> list[str]:
    """Return the names of a path as they are called now; quoted names stay as they are written."""
    return [_find(_KEYS, path[: place + 1]) or name for place, name in enumerate(names)]
