"""Findings of checks in one table: a row for each code. `docs/findings.md` is made from it.

A new check is a row here, a function in `kernels/checks` or in its claim's module, and a line in `ruling/procedures`.
"""

from __future__ import annotations

from typing import Final, Literal, NamedTuple

from msgspec import Struct

from tinclock.core.text import amount, printable

Consequence = Literal["note", "amend", "deny"]


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


class FindingKind(NamedTuple):
    """One row of the table.

    consequence : what it does to its claim unless the rules say otherwise; "drop": there is no claim yet
    saw : what the check saw, in one sentence
    measures : what was measured against what, in `unit`
    otherwise : what else explains it
    title : what an account does that shows it often, for a reviewer; empty where it can never be evidence
    helps : what would have had to be different, with the margin in it; empty where nothing can be said
    lenient, strict : the consequence under that strictness, where it is another one
    always_denies : there is nothing to rule on after it, however forgiving the match
    never_denies : the claim was ruled by the server's own numbers before it is found, so nothing is left to deny
    """

    code: str
    consequence: Consequence | Literal["drop"]
    saw: str
    measures: str
    otherwise: str
    unit: str = ""
    title: str = ""
    helps: str = ""
    lenient: Consequence | None = None
    strict: Consequence | None = None
    always_denies: bool = False
    never_denies: bool = False


# fmt: off
_TABLE: Final = (
    FindingKind("unknown_connection", "deny", "the connection is not admitted (it left, or never joined)",
        measures="the connection is not admitted", otherwise="a packet that was under way when its sender left",
        always_denies=True),
    FindingKind("spectator", "deny", "a spectator claims something",
        measures="the connection only watches", otherwise="a client that became a spectator a moment ago",
        always_denies=True),
    FindingKind("malformed", "deny", "the claim is not well formed",
        measures="a field of the wrong type, NaN, or larger than anything in a match",
        otherwise="a faulty client build", title="sends what isn't a claim", always_denies=True),
    FindingKind("flooded", "drop", "more messages came than a client can have to say; the rest was dropped",
        measures="messages that were dropped unread since the last look",
        otherwise="a client build that sends too much", unit="messages",
        title="sends more than the border lets through"),
    FindingKind("direction_not_unit", "deny", "the direction is not a unit vector",
        measures="the length of the direction", otherwise="a client that doesn't normalise", always_denies=True),
    FindingKind("foreign_actor", "deny", "the claim names an entity that the sender doesn't act for",
        measures="the entity that the claim names, against the sender's own",
        otherwise="a client that kept an id from an earlier match", title="claims in another player's name",
        lenient="amend"),
    FindingKind("not_yet_owner", "deny", "the screen of this claim is from before its sender had control",
        measures="how far the view lies before the sender got control, against delay and jitter",
        otherwise="a stall right at the change", unit="s"),
    FindingKind("repeated_sequence", "deny", "this sequence number was ruled before; the first ruling stands",
        measures="a number that was ruled before",
        otherwise="the network duplicated the packet, or the client asks again", always_denies=True),
    FindingKind("stale_sequence", "deny", "the sequence number is too old to be ruled",
        measures="a number older than the 128 that are remembered",
        otherwise="a packet that was under way for very long", title="sends claims of long ago", always_denies=True),
    FindingKind("skipped_sequence", "deny", "the sequence number is too far ahead of the last one",
        measures="a leap of more than 4096", otherwise="a faulty counter", always_denies=True),
    FindingKind("dead_actor", "deny", "the actor was not alive",
        measures="the actor's life; inside the trade window, whether its view lies after its death",
        otherwise="it fired before it heard of its death: common, and fair", unit="s",
        helps="had it arrived {margin} sooner, the trade window would have counted it", always_denies=True),
    FindingKind("absent_actor", "deny", "the server has no pose of the actor",
        measures="the shooter has no pose in the newest tick",
        otherwise="it was taken out of the world for a moment", always_denies=True),
    FindingKind("unknown_weapon", "deny", "no such weapon",
        measures="the weapon's name", otherwise="another version of the rules", always_denies=True),
    FindingKind("weapon_not_held", "deny", "the actor does not hold this weapon",
        measures="the weapon against what the server has it hold",
        otherwise="a change of weapon that has not arrived", lenient="amend"),
    FindingKind("unarmed", "deny", "the actor carries no such weapon",
        measures="the weapon against what the actor carries",
        otherwise="a client that has not heard what it was given", always_denies=True),
    FindingKind("wrong_kind", "deny", "this kind of weapon doesn't do that",
        measures="the kind of the weapon against the kind of the claim", otherwise="another version of the rules",
        always_denies=True),
    FindingKind("not_drawn", "deny", "the weapon was still being drawn",
        measures="time that the draw still needs, against the allowance",
        otherwise="packets bunched by more than the allowance", unit="s", title="fires a weapon before it is drawn",
        helps="{margin} later the weapon would have been drawn", lenient="note"),
    FindingKind("reloading", "deny", "the weapon was still being reloaded",
        measures="time that the reload still needs, against the allowance",
        otherwise="packets bunched by more than the allowance", unit="s", title="fires while it reloads",
        helps="{margin} later the reload would have been over", lenient="note"),
    FindingKind("no_ammunition", "deny", "the magazine was empty",
        measures="rounds in the magazine", otherwise="a reload whose claim was lost", unit="shots",
        title="fires from an empty magazine", always_denies=True),
    FindingKind("undercharged", "deny", "the weapon was not charged enough",
        measures="the charge against the least that fires", otherwise="a charge claim that was late or lost",
        helps="charged by {margin} more it would have fired"),
    FindingKind("overcharged", "amend", "more charge is claimed than there was time for; ruled with what there was",
        measures="the claimed charge against the time that there was; ruled with the latter",
        otherwise="a charge claim that was late"),
    FindingKind("shots_skipped", "amend", "the number of this shot is not the next one; its spread is the server's own",
        measures="the number of the shot against the next one; its spread is drawn from a stream that no client knows",
        otherwise="lost packets", title="leaves out shot numbers, which choose the spread"),
    FindingKind("fast_cadence", "deny", "shots come faster than the weapon fires",
        measures="how early the shot is, over all shots, against the allowance",
        otherwise="packets bunched by more than the allowance", unit="s", title="fires faster than its weapon",
        helps="fired {margin} later it would have passed"),
    FindingKind("muzzle_far", "amend", "the shot starts too far from the shooter's eye; it starts there",
        measures="distance from the server's eye of the shooter, or from the way that the eye goes",
        otherwise="a client whose prediction ran away after a stall", unit="m",
        title="fires from where it doesn't stand", helps="it would have had to start {margin} nearer to the eye",
        strict="deny"),
    FindingKind("muzzle_blocked", "deny", "a wall stands between the shooter's eye and where the shot starts",
        measures="a wall, pane or closed door that a shot of this weapon doesn't pass, between the eye and its start",
        otherwise="the eye as predicted and as recorded on two sides of a corner", unit="m",
        title="fires from behind a surface", lenient="amend"),
    FindingKind("not_facing", "deny", "the blow goes where the body doesn't face",
        measures="angle between the blow's aim and where the server's body faces",
        otherwise="a client that turns faster than its pose arrives", unit="deg",
        title="strikes where it doesn't face", lenient="note"),
    FindingKind("view_unknown", "deny", "the view names snapshots that this client was never sent",
        measures="ticks that were not published, or before this client came; a fraction outside its drawing",
        otherwise="a faulty client build", always_denies=True),
    FindingKind("view_ahead", "deny", "the view is newer than anything that can have reached the client",
        measures="time since the newer snapshot was sent, against the shortest round trip less the jitter",
        otherwise="a trip shorter than any ping showed", unit="s", title="claims to see what hasn't reached it",
        helps="no client can have seen this: the view would have had to be {margin} older", always_denies=True),
    FindingKind("view_late", "note", "the view is older than the connection explains",
        measures="age of the view against what the connection explains",
        otherwise="a stall that no ping has shown yet", unit="s",
        helps="{margin} younger, the view would have been one that the connection explains", strict="deny"),
    FindingKind("view_capped", "amend", "the view is older than max_rewind_s; ruled at that age",
        measures="age of the view against `max_rewind_s`", otherwise="a slow connection: common, and fair", unit="s",
        helps="a view that is {margin} younger would have been ruled as claimed"),
    FindingKind("view_backwards", "note", "the view lies before the one of an earlier claim",
        measures="how far the view lies before an earlier one", otherwise="packets reordered by a stall", unit="s",
        title="its views run backwards", strict="deny"),
    FindingKind("view_restless", "amend", "the view is not at the lag that the client told before; ruled at that",
        measures="how far the view lies from the tracked lag, against `lag_allowance_s`",
        otherwise="a buffer or a route that changed half a second ago", unit="s",
        lenient="note",
        helps="a view that is {margin} nearer to the lag of its own messages would have been ruled as claimed"),
    FindingKind("view_unexplained", "amend", "the connection doesn't explain the view's age; ruled at the nearest",
        measures="age of the view on arrival, against the nearest that round trip, interpolation delay, jitter and the "
        "gap between messages explain",
        otherwise="an interpolation delay that the server was not told, or a route that just changed", unit="s",
        lenient="note",
        helps="{margin} nearer to what the connection explains, the view would have been used as claimed"),
    FindingKind("lag_untold", "note", "the client reports no display delay before it shoots",
        measures="whether a recent move, status report or `seen` message holds a view and the client's time",
        otherwise="a client that sends no views with its moves"),
    FindingKind("clock_restless", "note", "the client's clock was set again and again",
        measures="restarts of the clock lately (half of them are forgotten in a minute)",
        otherwise="a system clock that is corrected in steps: use a monotonic clock",
        title="sets its clock again and again"),
    FindingKind("two_faced_clock", "note", "pongs and other messages can't both tell the client's time",
        measures="the least trip up by the stamps of pongs, against the one by other messages",
        otherwise="a client that answers pings late, or from another thread with another clock", unit="s",
        title="tells another time in its pongs than in its claims"),
    FindingKind("damage_differs", "amend", "the claimed damage is not what the weapon does",
        measures="claimed damage against the most the weapon can do", otherwise="another version of the rules",
        unit="points", title="claims more damage than its weapon does",
        helps="the server's own number counts, {margin} away from the claimed one", never_denies=True),
    FindingKind("victim_differs", "amend", "the claimed victim is not who was hit",
        measures="claimed victim against the one found",
        otherwise="a view or a pose that client and server evaluate differently",
        title="claims another victim than it hit", never_denies=True),
    FindingKind("part_differs", "amend", "the claimed part is not the hit one",
        measures="claimed part against the one found",
        otherwise="a view or a pose that client and server evaluate a little differently",
        title="claims another part than it hit", never_denies=True),
    FindingKind("unknown_projectile", "deny", "no such projectile, or one that is long gone",
        measures="the id against those that were issued and are remembered",
        otherwise="a claim that was under way for very long", always_denies=True),
    FindingKind("foreign_projectile", "deny", "the projectile is somebody else's",
        measures="who launched it", otherwise="a faulty client build", always_denies=True),
    FindingKind("flight_over", "deny", "the projectile had ended before",
        measures="when it ended, against the claimed time", otherwise="a client that doesn't know what stopped it",
        unit="s", title="claims hits of projectiles that had ended",  always_denies=True),
    FindingKind("no_impact", "deny", "the server's own flight hit nobody then",
        measures="the server's own flight, which hit nobody then",
        otherwise="poses that the client predicted differently", unit="m",
        title="claims hits that the server's own flight doesn't have", always_denies=True),
    FindingKind("impact_time_differs", "amend", "the impact is claimed at another time; the server's own stands",
        measures="time between the claimed impact and the server's, against `claim_time_s`",
        otherwise="a client that draws the flight from another start", unit="s",
        title="claims hits when its projectile wasn't there"),
    FindingKind("impact_place_differs", "amend", "the impact is claimed at another place; the server's own stands",
        measures="distance between them, against `claim_place_m`",
        otherwise="a client that draws the flight from another start", unit="m",
        title="claims hits where its projectile wasn't"),
    FindingKind("unknown_item", "deny", "no such item, or the actor carries none",
        measures="the item's name", otherwise="another version of the rules", always_denies=True),
    FindingKind("item_spent", "deny", "none of this item is left",
        measures="how many are left", otherwise="a use that the client believes was refused", always_denies=True),
    FindingKind("item_cooling", "deny", "the item was not ready again",
        measures="how early the use is, against the allowance", otherwise="packets bunched", unit="s",
        title="uses items sooner than it can"),
    FindingKind("target_far", "deny", "the target is no team-mate within reach",
        measures="distance to the target; none for one who is no team-mate",
        otherwise="the target died or left a moment ago", unit="m",
        helps="{margin} nearer the target would have been in reach"),
    FindingKind("needless", "deny", "it would change nothing",
        measures="it would change nothing, and is not used up",
        otherwise="the client has not heard of the last change", always_denies=True),
    FindingKind("moves_not_ruled", "deny",
        "clients don't report moves here: there is no [movement], or the body was never put anywhere",
        measures="the rules have no `[movement]`, or the server never `put` the body anywhere",
        otherwise="a faulty client build", always_denies=True),
    FindingKind("stale_move", "deny", "the report is not newer than the last one",
        measures="time since the last report by the client's clock", otherwise="packets reordered", unit="s",
        title="reports moves out of order", always_denies=True),
    FindingKind("push_too_long", "note", "the input is longer than an input can be",
        measures="length of the input", otherwise="a client that doesn't normalise"),
    FindingKind("fast_clock", "amend", "more time is claimed than there was; cut down",
        measures="time that the report uses against what there was since the last one",
        otherwise="packets bunched by more than the allowance", unit="s",
        title="moves for more seconds than there were"),
    FindingKind("teleport", "amend", "the body leapt; it stays where it was",
        measures="length of the leap; the body stays",
        otherwise="a teleport of the server's own that the client has heard of first", unit="m", title="leaps",
        strict="deny"),
    FindingKind("too_fast", "amend", "the body moved further than it can; cut down",
        measures="the way against speed and time; cut down",
        otherwise="something that pushed the body and isn't in the rules", unit="m", title="runs faster than it can",
        helps="{margin} less would have been a way that the body can go"),
    FindingKind("catching_up", "amend",
        "the body is still on its way after a pause in its client's reports; cut down",
        measures="the way against speed and the time that the pause left; cut down",
        otherwise="a line that lost reports and no answers to pings", unit="m",
        title="is still on its way after a pause"),
    FindingKind("too_sharp", "amend", "the body changed its velocity by more than it can; cut down",
        measures="change of velocity against the greatest acceleration; cut down",
        otherwise="something that pushed the body and isn't in the rules", unit="m/s",
        title="turns on the spot harder than it can", lenient="note"),
    FindingKind("not_falling", "amend", "the body was higher than a jump and gravity explain; cut down",
        measures="height against the arc of its jump; cut down",
        otherwise="ground that the client's level has and the server's has not", unit="m",
        title="stays in the air", lenient="note"),
    FindingKind("through_wall", "amend", "the way goes through the level; stopped there",
        measures="first wall or shut door on the way; the body stops there",
        otherwise="a level that client and server hold differently", unit="m", title="walks through walls",
        lenient="amend", strict="deny"),
    FindingKind("health_differs", "amend", "the client believes in a health that it never had lately",
        measures="believed health against all that it was lately",
        otherwise="another effect that the client predicts", unit="points", title="says it wasn't hurt when it was"),
    FindingKind("old_news", "note", "the client believes in a health that its own screen shows it has lost",
        measures="believed health against all that it was from 2 s before the newest snapshot of its view was sent",
        otherwise="news that are sent over a channel which may lose them for good", unit="points",
        title="repeats a health that it has lost, long after it must have heard"),
    FindingKind("armour_differs", "amend", "the client believes in an armour that it never had lately",
        measures="believed armour against all that it was lately",
        otherwise="another effect that the client predicts", unit="points",
        title="says it has armour that it hasn't"),
    FindingKind("ammunition_differs", "amend", "the client believes in more ammunition than there is",
        measures="believed rounds against the most there can be",
        otherwise="a reload that the server has not heard of", unit="shots",
        title="says it has rounds that it hasn't"),
    FindingKind("position_differs", "amend", "the client believes that it is where it can't be",
        measures="believed place against everywhere the body was lately",
        otherwise="a correction that is still under way", unit="m", title="says it stands where it never was"),
)
# fmt: on

FINDINGS: Final[dict[str, FindingKind]] = {kind.code: kind for kind in _TABLE}
"""Every code that there is."""

DEFAULTS: Final[dict[str, Consequence]] = {kind.code: kind.consequence for kind in _TABLE if kind.consequence != "drop"}
"""Action of each finding under `strictness = "standard"`."""


def explain_code(code: str) -> str:
    """Return the meaning of a code in one sentence; the code itself for one of another version."""
    return FINDINGS[code].saw if code in FINDINGS else code
