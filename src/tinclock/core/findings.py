"""Findings of checks in one table: a row for each code. `docs/findings.md` is made from it.

A new check is a row here, a function in `kernels/checks` or in its claim's module, and a line in `ruling/procedures`.
"""

from __future__ import annotations

from typing import Final, Literal, NamedTuple

from msgspec import Struct

from tinclock.core.text import amount, printable

Action = Literal["flag", "adjust", "reject"]


class Finding(Struct, frozen=True, gc=False):
    """Finding of one check. `margin` is the distance of the observed value beyond the limit, in `unit`."""

    code: str
    connection: str
    account: str
    entity: int
    sequence: int
    server_time: float
    observed: float | None = None
    limit: float | None = None
    margin: float | None = None
    unit: str = ""
    detail: str = ""

    def explain(self) -> str:
        """The finding as a sentence, with what was measured. For the server's own people, never for a client."""
        kind = FINDINGS.get(self.code)
        text = self.code if kind is None else kind.saw
        if self.observed is not None and self.limit is not None:
            text += f": {amount(self.observed, self.unit)} against {amount(self.limit, self.unit)}"
        if self.detail:
            text += f" ({printable(self.detail)})"
        return text


class GameFinding(Struct, frozen=True):
    """Finding of the game's own check. code : one of `[game_findings]`; observed, limit : in `unit`, where measured"""

    code: str
    observed: float | None = None
    limit: float | None = None
    unit: str = ""
    detail: str = ""


class FindingKind(NamedTuple):
    """One row of the table.

    action : what it does to its claim unless the rules say otherwise; "drop": there is no claim yet
    saw : what the check saw, in one sentence
    measures : what was measured against what, in `unit`
    otherwise : what else explains it
    title : what an account does that shows it often, for a reviewer; empty where it can never be evidence
    helps : what would have had to be different, with the margin in it; empty where nothing can be said
    lenient, strict : the action under that strictness, where it is another one
    always_rejects : there is nothing to rule on after it, however forgiving the match
    never_rejects : the claim was ruled by the server's own numbers before it is found, so nothing is left to reject
    """

    code: str
    action: Action | Literal["drop"]
    saw: str
    measures: str
    otherwise: str
    unit: str = ""
    title: str = ""
    helps: str = ""
    lenient: Action | None = None
    strict: Action | None = None
    always_rejects: bool = False
    never_rejects: bool = False


# fmt: off
_TABLE: Final = (
    FindingKind("unknown_connection", "reject", "the connection is not admitted (it left, or never joined)",
        measures="the connection is not admitted", otherwise="a packet that was under way when its sender left",
        always_rejects=True),
    FindingKind("spectator", "reject", "a spectator sent a claim",
        measures="the connection only watches", otherwise="a client that has just become a spectator",
        always_rejects=True),
    FindingKind("malformed", "reject", "the claim is not well formed",
        measures="a field of the wrong type, NaN, or larger than anything in a match",
        otherwise="a faulty client build", title="sends malformed claims", always_rejects=True),
    FindingKind("flooded", "drop", "the client sent more messages than the rate limit allows; the rest was dropped",
        measures="messages dropped unread since the last finding",
        otherwise="a client build that sends too much", unit="messages",
        title="exceeds the message rate limit"),
    FindingKind("direction_not_unit", "reject", "the direction is not a unit vector",
        measures="the length of the direction", otherwise="a client that doesn't normalise", always_rejects=True),
    FindingKind("wrong_actor", "reject", "the claim names an entity that the sender doesn't act for",
        measures="the entity that the claim names, against the sender's own",
        otherwise="a client that kept an id from an earlier match", title="claims in another player's name",
        lenient="adjust"),
    FindingKind("control_too_recent", "reject", "the view is older than the sender's control of this entity",
        measures="time from the view to when the sender got control, against delay and jitter",
        otherwise="a stall at the time of the change", unit="s"),
    FindingKind("repeated_sequence", "reject", "this sequence number was ruled before; the first ruling stands",
        measures="a number that was ruled before",
        otherwise="the network duplicated the packet, or the client retried", always_rejects=True),
    FindingKind("stale_sequence", "reject", "the sequence number is too old to be ruled",
        measures="a number older than the 128 that are remembered",
        otherwise="a packet that took very long", title="sends very old claims", always_rejects=True),
    FindingKind("skipped_sequence", "reject", "the sequence number is too far ahead of the last one",
        measures="an increase of more than 4096", otherwise="a faulty counter", always_rejects=True),
    FindingKind("dead_actor", "reject", "the actor was not alive",
        measures="the actor's life; inside the trade window, whether its view lies after its death",
        otherwise="it fired before its client received the death: common, and honest", unit="s",
        helps="had it arrived {margin} sooner, the trade window would have counted it", always_rejects=True),
    FindingKind("not_in_phase", "reject", "the phase of the match does not allow this",
        measures="what the phase allows, see `[phases]`",
        otherwise="a claim that was sent before the phase changed: common, and honest", always_rejects=True),
    FindingKind("cannot_afford", "reject", "the actor cannot pay for this",
        measures="the actor's counter against the price in `costs`",
        otherwise="a client that has not received the last change of its counter",
        helps="with {margin} more it would have been accepted"),
    FindingKind("actor_missing", "reject", "the server has no pose of the actor",
        measures="the shooter has no pose in the newest tick",
        otherwise="the server took it out of the world for a moment", always_rejects=True),
    FindingKind("unknown_weapon", "reject", "no such weapon",
        measures="the weapon's name", otherwise="another version of the rules", always_rejects=True),
    FindingKind("weapon_not_held", "reject", "the actor does not hold this weapon",
        measures="the claimed weapon against the one in hand on the server",
        otherwise="a change of weapon that has not arrived yet", lenient="adjust"),
    FindingKind("weapon_not_carried", "reject", "the actor carries no such weapon",
        measures="the claimed weapon against those that the actor carries",
        otherwise="a client that has not received its loadout yet", always_rejects=True),
    FindingKind("wrong_kind", "reject", "this weapon type cannot do that",
        measures="the weapon type against the claim type", otherwise="another version of the rules",
        always_rejects=True),
    FindingKind("not_drawn", "reject", "the weapon was still being drawn",
        measures="time left of the draw, against the tolerance",
        otherwise="packets bunched by more than the tolerance", unit="s", title="fires a weapon before it is drawn",
        helps="{margin} later the weapon would have been drawn", lenient="flag"),
    FindingKind("reloading", "reject", "the weapon was still being reloaded",
        measures="time left of the reload, against the tolerance",
        otherwise="packets bunched by more than the tolerance", unit="s", title="fires while it reloads",
        helps="{margin} later the reload would have been over", lenient="flag"),
    FindingKind("no_ammunition", "reject", "the magazine was empty",
        measures="rounds in the magazine", otherwise="a reload claim that was lost", unit="shots",
        title="fires from an empty magazine", always_rejects=True),
    FindingKind("undercharged", "reject", "the weapon was not charged enough",
        measures="the charge against the least that fires", otherwise="a charge claim that was late or lost",
        helps="charged by {margin} more it would have fired"),
    FindingKind("overcharged", "adjust", "the claimed charge needs more time than there was; it is reduced",
        measures="the claimed charge against the charge possible in the time",
        otherwise="a charge claim that was late"),
    FindingKind("shots_skipped", "adjust", "the number of this shot is not the next one; its spread is the "
        "server's own",
        measures="the number of the shot against the next one; its spread is drawn from a stream that no client knows",
        otherwise="lost packets", title="skips shot numbers, which select the spread"),
    FindingKind("fires_too_fast", "reject", "shots come faster than the weapon fires",
        measures="how early the shot is, over all shots, against the tolerance",
        otherwise="packets bunched by more than the tolerance", unit="s", title="fires faster than its weapon",
        helps="fired {margin} later, it would have been accepted"),
    FindingKind("muzzle_far", "adjust", "the shot starts too far from the shooter's eye; it starts there",
        measures="distance from the shooter's eye on the server, or from the eye's path",
        otherwise="a client whose prediction drifted after a stall", unit="m",
        title="fires from another position than its own", helps="it would have had to start {margin} nearer to the eye",
        strict="reject"),
    FindingKind("muzzle_blocked", "reject", "a wall is between the shooter's eye and the start of the shot",
        measures="a wall, pane or closed door between the eye and the start, which blocks this weapon",
        otherwise="a predicted eye and a recorded eye on two sides of a corner", unit="m",
        title="fires from behind a wall", lenient="adjust"),
    FindingKind("not_facing", "reject", "the melee attack points away from where the body faces",
        measures="angle between the melee attack's aim and where the server's body faces",
        otherwise="a client that turns faster than its pose arrives", unit="deg",
        title="attacks where it doesn't face", lenient="flag"),
    FindingKind("view_unknown", "reject", "the view names snapshots that this client was never sent",
        measures="ticks that were not published, or were before this client joined; a fraction outside 0 to 1",
        otherwise="a faulty client build", always_rejects=True),
    FindingKind("view_ahead", "reject", "the view is newer than any snapshot that could have reached the client",
        measures="time since the newer snapshot was sent, against the shortest round trip less the jitter",
        otherwise="a one-way delay shorter than any ping showed", unit="s",
        title="claims views that cannot have reached it",
        helps="no client can have drawn this yet: the view would have to be {margin} older", always_rejects=True),
    FindingKind("view_late", "flag", "the view is older than the connection explains",
        measures="age of the view against what the connection explains",
        otherwise="a stall that no ping has shown yet", unit="s",
        helps="the connection would explain a view that is {margin} younger", strict="reject"),
    FindingKind("over_rewind_limit", "adjust", "the view is older than max_rewind_s; ruled at that age",
        measures="age of the view against `max_rewind_s`", otherwise="a slow connection: common, and honest", unit="s",
        helps="a view that is {margin} younger would have been used as claimed"),
    FindingKind("view_backstep", "flag", "the view is older than the view of an earlier claim",
        measures="how much older the view is than an earlier one", otherwise="packets reordered by a stall", unit="s",
        title="sends older views after newer ones", strict="reject"),
    FindingKind("view_inconsistent", "adjust",
        "the view differs from the client's estimated display delay; the estimate is used",
        measures="difference between the view and the estimated display delay, against `display_delay_tolerance_s`",
        otherwise="a buffer or a route that changed less than a second ago", unit="s",
        lenient="flag",
        helps="a view {margin} nearer to the estimated display delay would have been used as claimed"),
    FindingKind("view_unexplained", "adjust",
        "the connection doesn't explain the view's age; the nearest explained age is used",
        measures="age of the view on arrival, against the nearest age that round trip, interpolation delay, jitter and "
        "the gap between messages explain",
        otherwise="an interpolation delay that the server does not know, or a route that has just changed", unit="s",
        lenient="flag",
        helps="{margin} nearer to the explained age, the view would have been used as claimed"),
    FindingKind("display_delay_unreported", "flag", "the client reports no display delay before it shoots",
        measures="whether a recent move, status report or `view_report` message holds a view and the client's time",
        otherwise="a client that sends no views with its moves"),
    FindingKind("clock_inconsistent", "flag", "the client's clock was restarted repeatedly",
        measures="recent restarts of the clock (each counts half after a minute)",
        otherwise="a system clock that is corrected in steps: use a monotonic clock",
        title="restarts its clock repeatedly"),
    FindingKind("clock_mismatch", "flag", "the client's pongs and its other messages carry different clocks",
        measures="the minimum uplink delay by pong timestamps, against the one by other messages",
        otherwise="a client that answers pings late, or from another thread with another clock", unit="s",
        title="uses another clock in its pongs than in its claims"),
    FindingKind("damage_differs", "adjust", "the claimed damage differs from the weapon's damage",
        measures="claimed damage against the maximum of the weapon", otherwise="another version of the rules",
        unit="points", title="claims more damage than its weapon does",
        helps="the server's damage applies; the claimed one differs by {margin}", never_rejects=True),
    FindingKind("victim_differs", "adjust", "the claimed victim differs from the body found",
        measures="claimed victim against the one found",
        otherwise="a view or a pose that client and server evaluate differently",
        title="claims another victim than it hit", never_rejects=True),
    FindingKind("part_differs", "adjust", "the claimed hitbox differs from the one found",
        measures="claimed hitbox against the one found",
        otherwise="a view or a pose that client and server evaluate a little differently",
        title="claims another hitbox than it hit", never_rejects=True),
    FindingKind("unknown_projectile", "reject", "no such projectile, or one that ended long ago",
        measures="the id against the issued ids that are still remembered",
        otherwise="a claim that took very long", always_rejects=True),
    FindingKind("wrong_projectile", "reject", "the projectile belongs to another player",
        measures="the entity that launched it", otherwise="a faulty client build", always_rejects=True),
    FindingKind("projectile_over", "reject", "the projectile had ended before",
        measures="when it ended, against the claimed time", otherwise="a client that has not received its end",
        unit="s", title="claims hits of projectiles that had ended",  always_rejects=True),
    FindingKind("no_impact", "reject", "the server's projectile hit nobody at that time",
        measures="the server's projectile, which hit nobody at that time",
        otherwise="poses that the client predicted differently", unit="m",
        title="claims hits that the server's projectile doesn't have", always_rejects=True),
    FindingKind("impact_time_differs", "adjust", "the impact is claimed at another time; the server's time is used",
        measures="time between the claimed impact and the server's, against `claim_time_tolerance_s`",
        otherwise="a client that draws the projectile from another start", unit="s",
        title="claims hits at times when its projectile was elsewhere"),
    FindingKind("impact_position_differs", "adjust",
        "the impact is claimed at another position; the server's position is used",
        measures="distance between them, against `claim_position_tolerance_m`",
        otherwise="a client that draws the projectile from another start", unit="m",
        title="claims hits at positions that its projectile didn't reach"),
    FindingKind("unknown_item", "reject", "no such item, or the actor carries none",
        measures="the item's name", otherwise="another version of the rules", always_rejects=True),
    FindingKind("item_spent", "reject", "none of this item is left",
        measures="how many are left", otherwise="a use that the client assumes was rejected", always_rejects=True),
    FindingKind("item_cooling", "reject", "the item was still cooling down",
        measures="how early the use is, against the tolerance", otherwise="packets that arrived bunched", unit="s",
        title="uses items before they are ready"),
    FindingKind("target_far", "reject", "the target is not a team-mate within reach",
        measures="distance to the target; no value if it is not a team-mate",
        otherwise="the target died or left a moment ago", unit="m",
        helps="{margin} nearer, the target would have been in reach"),
    FindingKind("no_effect", "reject", "the claim would have no effect",
        measures="the effect of the claim; nothing is used up",
        otherwise="the client has not received the last change", always_rejects=True),
    FindingKind("moves_not_ruled", "reject",
        "clients don't report moves here: the rules have no [movement], or the body has no position yet",
        measures="the rules have no `[movement]`, or the server never called `set_position` for the body",
        otherwise="a faulty client build", always_rejects=True),
    FindingKind("stale_move", "reject", "the report is not newer than the previous one",
        measures="time since the last report by the client's clock", otherwise="packets reordered", unit="s",
        title="reports moves out of order", always_rejects=True),
    FindingKind("input_too_long", "flag", "the input vector is longer than 1",
        measures="length of the input", otherwise="a client that doesn't normalise"),
    FindingKind("fast_clock", "adjust", "the report uses more time than has passed; the move is shortened",
        measures="time that the report uses, against the time since the last one",
        otherwise="packets bunched by more than the tolerance", unit="s",
        title="moves for more time than has passed"),
    FindingKind("teleport", "adjust", "the body moved too far at once; it stays where it was",
        measures="distance of the move; the body stays",
        otherwise="a teleport by the server that the client applied first", unit="m", title="teleports",
        strict="reject"),
    FindingKind("prediction_differs", "flag", "the client predicted another position than the server simulated",
        measures="distance between both after the same input, against `movement.prediction_tolerance_m`",
        otherwise="the client simulates with other numbers, or did not know of a push", unit="m"),
    FindingKind("condition_not_met", "reject", "a condition of the weapon or item does not hold",
        measures="the counter in `requires`, or an effect in `blocked_by`",
        otherwise="a client that has not received the last change of its counter or effect",
        helps="with {margin} more it would have been accepted"),
    FindingKind("off_vehicle", "adjust", "the body is too far from the vehicle that it rides; it is put back",
        measures="distance from the vehicle's middle, against its size and `movement.ride_reach_m`",
        otherwise="a rider who jumped off before the server said so", unit="m"),
    FindingKind("not_its_vehicle", "reject", "the claim's place is relative to an entity that the actor does not ride",
        measures="the entity in `relative_to` against the vehicle of the actor",
        otherwise="a claim that was sent long before the rider left its vehicle", always_rejects=True),
    FindingKind("too_fast", "adjust", "the body moved farther than it can; the move is shortened",
        measures="distance against speed and time; the move is shortened",
        otherwise="a push on the body that the rules don't contain", unit="m", title="runs faster than it can",
        helps="a move {margin} shorter would have been accepted"),
    FindingKind("catching_up", "adjust",
        "the body is still catching up after a pause in its client's reports; the move is shortened",
        measures="distance against speed and the time that the pause left; the move is shortened",
        otherwise="a connection that lost reports and no pongs", unit="m",
        title="catches up after a pause"),
    FindingKind("turns_too_sharply", "adjust",
        "the body changed its velocity by more than it can; the move is shortened",
        measures="change of velocity against the maximum acceleration; the move is shortened",
        otherwise="a push on the body that the rules don't contain", unit="m/s",
        title="turns more sharply than it can", lenient="flag"),
    FindingKind("not_falling", "adjust", "the body was higher than a jump and gravity explain; it is lowered",
        measures="height against the arc of its jump; the body is lowered",
        otherwise="ground that only the client's level has", unit="m",
        title="stays in the air", lenient="flag"),
    FindingKind("through_wall", "adjust", "the move crosses a wall of the level; the body stops there",
        measures="first wall or closed door on the path; the body stops there",
        otherwise="a level that differs between client and server", unit="m", title="walks through walls",
        lenient="adjust", strict="reject"),
    FindingKind("health_differs", "adjust", "the client reports a health that it did not have recently",
        measures="reported health against all recent values",
        otherwise="another effect that the client predicts", unit="points", title="reports no damage when it was hurt"),
    FindingKind("stale_health", "flag", "the client reports a health that its own view shows as lost",
        measures="reported health against all values from 2 s before the newest snapshot of its view was sent",
        otherwise="events that are sent over a channel that may lose them for good", unit="points",
        title="reports a health that it lost, long after it received the change"),
    FindingKind("armour_differs", "adjust", "the client reports an armour that it did not have recently",
        measures="reported armour against all recent values",
        otherwise="another effect that the client predicts", unit="points",
        title="reports armour that it does not have"),
    FindingKind("ammunition_differs", "adjust", "the client reports more ammunition than there is",
        measures="reported rounds against the maximum possible",
        otherwise="a reload that the server has not received", unit="shots",
        title="reports rounds that it does not have"),
    FindingKind("position_differs", "adjust", "the client reports a position where its body cannot be",
        measures="reported position against all recent positions of the body",
        otherwise="a correction that is still under way", unit="m", title="reports positions where it never was"),
)
# fmt: on

FINDINGS: Final[dict[str, FindingKind]] = {kind.code: kind for kind in _TABLE}
"""Every code that there is."""

DEFAULTS: Final[dict[str, Action]] = {kind.code: kind.action for kind in _TABLE if kind.action != "drop"}
"""Action of each finding under `strictness = "standard"`."""


def explain_code(code: str) -> str:
    """Return the meaning of a code in one sentence; the code itself for one of another version."""
    return FINDINGS[code].saw if code in FINDINGS else code
