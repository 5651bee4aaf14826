"""The lag that a connection tells before it shoots, and what becomes of shots that stray from it."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

import tinclock
from tinclock.core.kernels.checks.lag import strays_at
from tinclock.core.kernels.dtypes import LINE, LINE_T
from tinclock.core.timeline.lag import LagTracker, Said
from tinclock.garden.scenario import load_garden
from tinclock.wire import Gateway, Join, ViewReport

LAG_S, OFFSET_S, DOWN_S, UP_S = 0.13, 40.0, 0.03, 0.02


def said(at: float, lag_s: float = LAG_S, still: bool = False, offset_s: float = OFFSET_S) -> Said:
    """What an honest client says at a server time."""
    return Said(at + offset_s, at - lag_s, at + UP_S, still)


def told(tracker: LagTracker, times: np.ndarray, lag_s: float = LAG_S, **more: float) -> None:
    """An honest client says its lag again and again."""
    for at in times.tolist():
        tracker.take(said(at, lag_s, **more))


class Duel:
    """A shooter in a real match, whose client says its view ten times a second and then shoots at somebody running."""

    def __init__(self, actions: dict[str, str] | None = None) -> None:
        rules = load_garden().rules
        rules = msgspec.structs.replace(rules, actions={**rules.actions, **(actions or {})})
        self.referee = tinclock.Referee(rules, seed=3)
        self.me = self.referee.admit(connection="s", account="s", team="copper", rig="gardener")
        self.other = self.referee.admit(connection="v", account="v", team="pewter", rig="gardener")
        self.rig, self.tick, self.sequence = self.referee.history.rigs["gardener"], 0, 0

    def run(self, seconds: float, say: bool = True, early_s: float = 0.0, delay_s: float = 0.0) -> None:
        """Time goes by: poses, snapshots, pings and what the client says."""
        dice = np.random.default_rng(self.tick)
        for _ in range(round(seconds * 64)):
            at = self.tick / 64
            roots = [[0, 0, 0, 0, 0, 0, 1], [8, 3.0 * at - 9.0, 0, 0, 0, 1, 0]]
            bones = tinclock.rooted_bones(self.rig, roots)
            self.referee.record(self.tick, at, [self.me, self.other], bones)
            if self.tick % 2 == 0:
                self.referee.snapshot_sent(self.tick)
            if self.tick % 16 == 8:
                nonce = self.referee.ping("s", at)
                stamp = at + DOWN_S + OFFSET_S + early_s
                self.referee.pong("s", nonce, stamp, at + DOWN_S + UP_S + float(dice.uniform(0.0, delay_s)))
            if say and self.tick % 6 == 5 and at > 0.3:
                self.referee.report_view("s", self.view(at), at + OFFSET_S, at + UP_S)
            self.tick += 1

    @property
    def now(self) -> float:
        """Server time."""
        return (self.tick - 1) / 64

    def view(self, at: float, lag_s: float = LAG_S) -> tinclock.View:
        """What a client draws at a time."""
        return self.referee.history.view_at(at - lag_s)

    def shoot(self, lag_s: float = LAG_S, stamp_off_s: float = 0.0, stamped: bool = True) -> tinclock.Ruling:
        """A shot at the body where it is at a view."""
        self.sequence += 1
        at, eye = self.now, self.referee.history.eye_now(self.me)
        view = self.view(at + stamp_off_s, lag_s)
        y = 3.0 * self.referee.history.time_of(view) - 9.0
        along = np.array([8.0, y, 1.2]) - eye
        claim = tinclock.claims.ShotClaim(
            self.sequence, self.me, "grit_rifle", eye, tuple((along / np.linalg.norm(along)).tolist()), view,
            client_time=at + OFFSET_S + stamp_off_s if stamped else None,
        )  # fmt: skip
        return self.referee.rule("s", claim, received_at=at + UP_S)


def codes(ruling: tinclock.Ruling) -> list[str]:
    """The codes of a ruling's findings."""
    return [finding.code for finding in ruling.findings]


def test_an_honest_shot_is_ruled_as_it_was_claimed_and_one_that_strays_at_the_tracked_lag():
    """A shot at the told lag is accepted; one whose view strays either way is ruled at that lag, and found."""
    line = Duel()
    line.run(2.0)
    honest = line.shoot()
    assert (honest.outcome, codes(honest), bool(honest.hits)) == ("accepted", [], True)
    for stray in (0.03, 0.1, -0.015):
        line.run(0.5)
        ruling = line.shoot(LAG_S + stray)
        assert "view_inconsistent" in codes(ruling)
        assert ruling.outcome == "adjusted"
        assert ruling.view_time == pytest.approx(line.now - LAG_S, abs=1e-6)
        assert ruling.findings[-1].observed == pytest.approx(abs(stray), abs=1e-6)
        assert ruling.findings[-1].limit == load_garden().rules.view.display_delay_tolerance_s


def test_a_shot_whose_stamp_moves_with_its_view_gains_no_more_than_the_line_explains():
    """A claim stamped before what was sent before it, or long before it came, is taken for made later."""
    line = Duel()
    line.run(2.0)
    ruling = line.shoot(stamp_off_s=-0.15)
    assert "view_inconsistent" in codes(ruling)
    assert ruling.view_time is not None
    rules = load_garden().rules.view
    slack = rules.max_send_delay_s + rules.jitter_factor * line.referee.clock("s").jitter_s
    assert line.now - LAG_S - slack - 1e-6 <= ruling.view_time <= line.now - LAG_S + 1e-6
    line.run(0.5)
    oldest, newest = line.referee.view_window("s", line.sequence + 1, line.now + UP_S)
    assert newest - oldest <= slack + 2 * rules.display_delay_tolerance_s + 0.002
    assert oldest <= line.now - LAG_S <= newest


def test_before_the_line_is_known_a_shot_may_have_taken_longer():
    """While few pings were answered the jitter isn't known, and a stamp isn't held against the time of arrival."""
    early, late = Duel(), Duel()
    early.run(1.2)
    late.run(3.0)
    assert codes(early.shoot(stamp_off_s=-0.07)) == []
    assert "view_inconsistent" in codes(late.shoot(stamp_off_s=-0.07))


def test_a_shot_without_a_stamp_is_ruled_at_the_tracked_lag_and_a_mute_client_where_its_line_explains():
    """Leaving out the stamp widens nothing; a client that tells no lag is ruled at the one that its line explains."""
    line = Duel()
    line.run(2.0)
    ruling = line.shoot(LAG_S + 0.03, stamped=False)
    assert ruling.view_time == pytest.approx(line.now - LAG_S, abs=1e-3)
    assert codes(ruling) == []
    mute = Duel()
    mute.run(2.0, say=False)
    assert codes(mute.shoot()) == ["display_delay_unreported"]
    for off, limit in ((0.08, 0.015), (-0.04, 0.005)):
        mute.run(0.5, say=False)
        ruling = mute.shoot(LAG_S + off)
        assert codes(ruling) == ["view_unexplained", "display_delay_unreported"]
        assert ruling.outcome == "adjusted"
        assert ruling.view_time == pytest.approx(mute.now - LAG_S, abs=limit)
    asked = Duel(actions={"display_delay_unreported": "reject"})
    asked.run(3.0, say=False)
    assert asked.shoot().outcome == "rejected"


def test_an_entry_in_the_future_or_of_junk_tells_no_lag():
    """What can't be true says nothing: ticks never sent, snapshots too young, junk of any kind."""
    line = Duel()
    line.run(2.0)
    before = line.referee.view_window("s", 1, line.now)
    last = line.tick - 1 - (line.tick - 1) % 2
    for view in ((last + 50, last + 52, 0.5), (1, 3, 0.0), (4, 2, 0.5), "x", (0, 2), (0, 2, float("nan"))):
        assert line.referee.report_view("s", view, line.now + OFFSET_S, line.now + 0.001) is False
    for stamp in ("x", None, float("nan"), float("inf"), [1.0]):
        assert line.referee.report_view("s", line.view(line.now), stamp, line.now + UP_S) is False
    assert line.referee.view_window("s", 1, line.now) == before


def test_the_tracker_follows_a_buffer_that_adapts_and_a_route_that_changes_within_a_second():
    """A new lag is the tracked one after three quarters of a second, and not before a quarter."""
    tracker = LagTracker()
    told(tracker, np.arange(0.0, 3.0, 0.06))
    told(tracker, np.arange(3.0, 3.2, 0.06), LAG_S + 0.05)
    assert tracker.lag_s == pytest.approx(OFFSET_S + LAG_S)
    told(tracker, np.arange(3.24, 3.85, 0.06), LAG_S + 0.05)
    assert tracker.lag_s == pytest.approx(OFFSET_S + LAG_S + 0.05)


def test_noise_in_what_is_told_buys_nothing_and_lagging_on_purpose_lags():
    """A client that blurs the views of its messages is tracked at their middle, as near as a few milliseconds."""
    dice, tracker, off = np.random.default_rng(4), LagTracker(), []
    for at in np.arange(0.0, 20.0, 0.06).tolist():
        tracker.take(said(at, LAG_S + float(dice.uniform(-0.03, 0.03))))
        off.append(abs(tracker.lag_s - OFFSET_S - LAG_S))
    assert np.nanmax(off[5:]) < 0.03
    assert np.nanmedian(off) < 0.01


def test_the_last_message_before_a_shot_chooses_nothing_though_two_lags_were_told_in_turn():
    """A client that tells two lags in turn, 60 ms apart, moves the tracked one by little with its last word."""
    tracked = []
    for last in (LAG_S, LAG_S + 0.06):
        tracker = LagTracker()
        for k, at in enumerate(np.arange(0.0, 3.0, 0.0625).tolist()):
            tracker.take(said(at, LAG_S + 0.06 * (k % 2)))
        tracker.take(said(3.0, last))
        tracked.append(tracker.lag_s)
    assert abs(tracked[1] - tracked[0]) < 0.009


def test_a_screen_that_stands_still_may_lag_more_and_a_clock_that_was_set_starts_anew():
    """Held views count for no median and are allowed as long as time has gone on since; a leap of the clock forgets."""
    tracker = LagTracker()
    told(tracker, np.arange(0.0, 2.0, 0.06))
    tracker.numbers[LINE.answers] = 8
    for k in range(1, 6):  # no snapshot comes for 300 ms: the view stays where it was
        tracker.take(Said(2.0 + 0.06 * k + OFFSET_S, 2.0 - LAG_S, 2.0 + 0.06 * k + UP_S, True))
    assert tracker.lag_s == pytest.approx(OFFSET_S + LAG_S)
    tracker.numbers[LINE.jitter_s] = tracker.numbers[LINE.late_s] = 0.002
    row = np.asarray(tracker.numbers).view(np.dtype((np.record, LINE_T)))[0]
    assert not strays_at(row, 2.35 + OFFSET_S, 2.0 - LAG_S, True, 0.004)
    assert not strays_at(row, 2.35 + OFFSET_S, 2.35 - LAG_S, False, 0.004)
    assert strays_at(row, 2.35 + OFFSET_S, 1.9 - LAG_S, True, 0.004)
    tracker.take(said(3.0, offset_s=OFFSET_S - 7.0))
    assert np.isnan(tracker.lag_s)
    told(tracker, np.arange(3.06, 3.6, 0.06), offset_s=OFFSET_S - 7.0)
    assert tracker.lag_s == pytest.approx(OFFSET_S - 7.0 + LAG_S)


@pytest.mark.parametrize(("early_s", "found"), [(0.0, False), (0.02, False), (0.06, True)])
def test_a_clock_with_two_faces_is_found_and_an_honest_one_is_not(early_s: float, found: bool):
    """Pongs by another clock are found; a frame between a message's stamp and its sending is no second clock."""
    line = Duel()
    line.run(17.0, early_s=early_s)
    status = line.referee.rule(
        "s",
        tinclock.claims.StatusClaim(1, line.me, health=100.0, client_time=line.now + OFFSET_S),
        received_at=line.now + UP_S,
    )
    assert ("clock_mismatch" in codes(status)) is found


def test_pongs_that_wait_widen_no_choice_beyond_the_messages_around_the_shot():
    """Answers held back at random raise the jitter; the choice stays between two messages of the client's own."""
    line = Duel()
    line.run(10.0, delay_s=0.2)
    assert line.referee.clock("s").jitter_s > 0.02
    claim = tinclock.claims.StatusClaim(
        1, line.me, view=line.view(line.now - 0.01), client_time=line.now - 0.01 + OFFSET_S
    )  # fmt: skip
    line.referee.rule("s", claim, received_at=line.now - 0.01 + UP_S)
    oldest, newest = line.referee.view_window("s", 2, line.now + UP_S)
    assert newest - oldest <= 0.01 + 2 * load_garden().rules.view.display_delay_tolerance_s + 0.002


def test_a_message_of_what_was_seen_passes_the_border():
    """The `seen` message of a client reaches the tracker through bytes, and is answered with nothing."""
    line = Duel()
    line.run(0.6, say=False)
    gateway = Gateway(line.referee, "s")
    assert gateway.receive(msgspec.json.encode(Join((2,))), line.now) is not None
    for _ in range(8):
        view = line.view(line.now)
        message = ViewReport(view.from_tick, view.to_tick, view.fraction, line.now + OFFSET_S)
        assert gateway.receive(msgspec.msgpack.encode(message), line.now + UP_S) is None
        line.run(0.1, say=False)
    assert codes(line.shoot(LAG_S + 0.05)) == ["view_inconsistent"]


@pytest.mark.parametrize("lag_s", [0.25, 0.33])
def test_a_told_lag_counts_as_far_as_the_line_explains_it(lag_s: float):
    """A client that tells a longer lag than round trip, delay and a snapshot's spacing is ruled at that bound."""
    line = Duel()
    line.run(1.0, say=False)
    for _ in range(20):
        line.run(0.1, say=False)
        for _ in range(2):
            line.referee.report_view("s", line.view(line.now, lag_s), line.now + OFFSET_S, line.now + UP_S)
            line.run(1 / 64, say=False)
    ruling = line.shoot(lag_s)
    assert "view_unexplained" in codes(ruling)
    told, explained, tracked = line.referee.display_delays("s", line.now + UP_S)
    assert told == pytest.approx(lag_s + UP_S, abs=0.02)
    assert explained == pytest.approx(DOWN_S + UP_S + 0.1)
    assert tracked <= explained + 2 / 64 + 0.02
    assert ruling.view_time is not None
    assert line.now + UP_S - ruling.view_time <= tracked + 0.1
    assert line.now - ruling.view_time < lag_s - 0.02


def test_a_lag_that_fell_rises_no_faster_than_its_line_gets_worse():
    """A client that told a short lag and then its old one again has the old one back after seconds, not at once."""
    line = Duel()
    line.run(4.0)
    before = line.referee.display_delays("s", line.now).estimated_s
    line.referee.set_interpolation("s", tinclock.Interpolation(interpolation_delay_s=0.1))
    for lag_s, seconds in ((LAG_S - 0.04, 2.0), (LAG_S, 1.5)):
        for _ in range(round(10 * seconds)):
            line.run(0.1, say=False)
            line.referee.report_view("s", line.view(line.now, lag_s), line.now + OFFSET_S, line.now + UP_S)
    assert line.referee.display_delays("s", line.now).estimated_s < before - 0.025
    assert line.referee.display_delays("s", line.now).reported_s == pytest.approx(before, abs=0.002)
    for _ in range(150):
        line.run(0.1, say=False)
        line.referee.report_view("s", line.view(line.now), line.now + OFFSET_S, line.now + UP_S)
    assert line.referee.display_delays("s", line.now).estimated_s == pytest.approx(before, abs=0.004)


@pytest.mark.parametrize("way", ["silence", "clock", "reconnect", "second", "spectator"])
def test_nothing_that_a_client_does_makes_the_server_forget_its_lag(way: str):
    """Silence, a clock that leaps, a reconnect and a second connection leave the choice of a view narrow."""
    line = Duel()
    line.run(4.0)
    name, offset_s = "s", OFFSET_S
    if way == "silence":
        line.run(2.2, say=False)
    elif way == "clock":
        offset_s += 0.13
        line.referee.report_view("s", line.view(line.now), line.now + offset_s, line.now + UP_S)
    else:
        name = "again"
        if way == "spectator":
            line.referee.admit_spectator(connection="watches", account="s")
        if way != "second":
            line.referee.dismiss("s", line.now)
        if way == "spectator":
            line.referee.dismiss("watches", line.now)
        line.referee.admit(connection=name, account="s", team="copper", rig="gardener")
    oldest, newest = line.referee.view_window(name, line.sequence + 1, line.now + UP_S)
    assert oldest <= line.now - LAG_S + 0.001
    assert newest >= line.now - LAG_S - 0.001
    assert newest - oldest <= 0.09


def test_a_number_that_was_left_free_counts_by_its_arrival():
    """A shot with the number before an old report, and that report's stamp, is ruled as if it had just been made."""
    line = Duel()
    line.run(4.0)
    for k in range(40):
        line.run(1 / 64, say=False)
        view = line.view(line.now)
        status = tinclock.claims.StatusClaim(2 * k + 2, line.me, view=view, client_time=line.now + OFFSET_S)
        line.referee.rule("s", status, received_at=line.now + UP_S)
    old = 2 * 20 + 1
    oldest, _ = line.referee.view_window("s", old, line.now + UP_S)
    assert line.now - LAG_S - oldest <= 0.07
    line.sequence = old - 1
    ruling = line.shoot(stamp_off_s=-0.3)
    assert "view_inconsistent" in codes(ruling)
    assert ruling.view_time is not None
    assert ruling.view_time >= line.now - LAG_S - 0.07


def test_a_deeper_buffer_that_is_announced_counts_little_by_little():
    """An interpolation delay that is announced during a match widens the explained lag by a hundredth of the time."""
    line = Duel()
    line.run(4.0)
    line.referee.set_interpolation("s", tinclock.Interpolation(interpolation_delay_s=0.2))
    before = line.referee.display_delays("s", line.now).explained_s
    line.run(3.0)
    assert line.referee.display_delays("s", line.now).explained_s == pytest.approx(before + 0.03, abs=0.001)
    line.run(9.0)
    assert line.referee.display_delays("s", line.now).explained_s == pytest.approx(DOWN_S + UP_S + 0.2, abs=0.001)


def test_shots_that_stand_still_count_as_reports_do():
    """A client whose shots show held snapshots again and again is excused only for the first few of them."""
    line = Duel()
    excused = []
    line.run(4.0)
    for _ in range(12):
        line.run(0.3)
        line.referee.report_view("s", line.view(line.now), line.now + OFFSET_S, line.now + UP_S)
        line.run(3 / 64, say=False)
        line.sequence += 1
        tick = line.view(line.now - 3 / 64).to_tick
        eye, at = line.referee.history.eye_now(line.me), line.now
        claim = tinclock.claims.ShotClaim(
            line.sequence, line.me, "grit_rifle", eye, (1.0, 0.0, 0.0), tinclock.View(tick, tick, 0.0),
            client_time=at + OFFSET_S,
        )  # fmt: skip
        excused.append("view_inconsistent" not in codes(line.referee.rule("s", claim, received_at=at + UP_S)))
    assert excused[0]
    assert not any(excused[6:])


@pytest.mark.parametrize(("every_s", "found"), [(25.0, False), (1.5, True)])
def test_a_clock_that_is_set_now_and_then_costs_nothing_and_often_is_noted(every_s: float, found: bool):
    """Steps of a system clock are followed at once; a clock that leaps all the time is found restless."""
    line, told, wrong = Duel(), 0.0, 0
    line.run(1.0, say=False)
    for k in range(round(30.0 / 0.1)):
        line.run(0.1, say=False)
        told = 0.06 * (int(line.now / every_s) % 2)
        line.referee.report_view("s", line.view(line.now), line.now + OFFSET_S - told, line.now + UP_S)
        if k > 20 and k % 7 == 0:
            ruling = line.shoot(stamp_off_s=0.0)
            wrong += bool({"view_inconsistent", "view_unexplained"} & set(codes(ruling)))
    status = tinclock.claims.StatusClaim(900, line.me, client_time=line.now + OFFSET_S)
    assert ("clock_inconsistent" in codes(line.referee.rule("s", status, received_at=line.now + UP_S))) is found
    assert found or wrong == 0


def test_the_choice_that_the_server_names_is_the_one_that_it_rules_by():
    """A view just inside `view_window` is used as claimed, and one just outside it has a finding."""
    for off, inside in ((0.001, True), (-0.006, False)):
        line = Duel()
        line.run(4.0)
        oldest, _ = line.referee.view_window("s", line.sequence + 1, line.now + UP_S)
        ruling = line.shoot(stamp_off_s=oldest + off - (line.now - LAG_S))
        assert (codes(ruling) == []) is inside
