"""Evidence: p-values, bets and their products, calibration of findings, what detectors see in recorded matches."""

from __future__ import annotations

import math
from types import SimpleNamespace

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import integrate, stats

import tinclock
import tinclock.errors
from tinclock.core.evidence import detectors, quality
from tinclock.core.evidence.bets import BEYOND, HitsBet, IncidentBet, ShareBet
from tinclock.core.evidence.calibrated_rules import calibrated_rules_of
from tinclock.core.evidence.calibration import Collector, _ceiling, calibrate
from tinclock.core.evidence.calibration_table import Calibration, CalibrationSource, Ceiling, Rate, line_class
from tinclock.core.evidence.detectors import Chances
from tinclock.core.evidence.eprocess import DECIBAN, KindEvidence, add_logs, combined, e_of_p, limit_decibans
from tinclock.core.evidence.evidence_timeline import Observations, peak, threshold_reached, weigh
from tinclock.core.evidence.exact import EXACT
from tinclock.core.evidence.live import LiveEvidence, after_match, with_match
from tinclock.core.evidence.measured import MeasuredLine, telling
from tinclock.core.evidence.observe import GazeSamples, Observer, ShotTable
from tinclock.core.evidence.scene import Party, scene_of
from tinclock.core.evidence.sight import Sight
from tinclock.core.findings import Finding
from tinclock.errors import EvidenceError
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import load_garden
from tinclock.intake.calibration_file import load_calibration, save_calibration
from tinclock.recordings.observed import observed_in
from tinclock.recordings.recording import Recording
from tinclock.recordings.replaying import replay
from tinclock.testing import Stage

NO_SHOTS = ShotTable(*[[] if name in ("weapon", "kind") else np.empty(0) for name in ShotTable._fields])
NO_LOOKS = GazeSamples(*[np.empty(0)] * 5)
UNFAIR = {"clover": {"snap_aim": 1.0}, "elder": {"forge_actor": 0.5}, "beryl": {"flood": 0.5}}


@pytest.fixture(scope="module")
def match(tmp_path_factory):
    """Half a minute of six, three of them cheating."""
    path = tmp_path_factory.mktemp("evidence") / "match"
    simulate_match(seed=23, seconds=32.0, players=6, cheats=UNFAIR, record_to=path)
    return path


# -- bets -----------------------------------------------------------------------------------------------------------


@given(st.floats(1e-12, 1.0))
def test_the_e_value_of_a_p_value_is_the_mixture_of_power_bets(p):
    """It is the integral of k p^(k-1) over k from 0 to 1, which SciPy integrates here."""
    expected, _ = integrate.quad(lambda k: k * p ** (k - 1.0), 0.0, 1.0)
    assert math.exp(e_of_p(p)) == pytest.approx(expected, rel=1e-6)


def test_an_e_value_is_at_most_one_on_average_for_fair_accounts():
    """Over evenly spread p-values its mean is 1, less what the smallest p-value is held to."""
    mean = sum(integrate.quad(lambda p: math.exp(e_of_p(p)), 10.0**-k, 10.0 ** (1 - k))[0] for k in range(1, 13))
    assert 0.9 < mean <= 1.0 + 1e-9


@given(st.lists(st.floats(-6.0, 6.0), min_size=1, max_size=12))
def test_a_strand_is_the_sum_over_the_match_that_it_began_with(log_es):
    """Sum over j of product from match j on, each with 1/(j(j+1)), and what is still to begin at 1."""
    one = KindEvidence()
    for log_e in log_es[:-1]:
        one = one.add(log_e).next_match()
    one = one.add(log_es[-1])
    n = len(log_es)
    whole = sum(math.exp(sum(log_es[j:])) / ((j + 1) * (j + 2)) for j in range(n)) + 1.0 / (n + 1)
    assert one.log_e == pytest.approx(math.log(whole), abs=1e-9)


@given(st.lists(st.lists(st.floats(-4.0, 9.0), min_size=3, max_size=3), min_size=1, max_size=6))
def test_chains_of_arrays_and_strands_by_name_agree(matches):
    """Evidence kept in arrays and evidence kept by name agree."""
    shares = {"a": 0.5, "b": 0.3, "c": 0.2}
    chain, by_kind = quality.Chain(np.array(list(shares.values()))), {}
    for values in matches:
        now = dict(zip(shares, values, strict=True))
        expected = combined(with_match(by_kind, now), shares)
        assert chain.match(np.array([values]))[0] == pytest.approx(expected, abs=1e-9)
        by_kind = after_match(by_kind, now)


def played_share(rng, ceiling, clumping, matches=12, trials=40):
    """Ln of the e-process of an account at a ceiling, and its highest, over matches that vary as `clumping` says."""
    size, kind, highest = 1.0 / clumping - 1.0, KindEvidence(), 0.0
    for _ in range(matches):
        share = rng.beta(ceiling * size, (1.0 - ceiling) * size)
        bet = ShareBet(Ceiling(0.1, 0.05))
        for _ in range(trials // 8):
            bet.take((rng.random((8, 1)) < share).astype(float))
            highest = max(highest, kind._replace(now=bet.log_e).log_e)
        kind = kind._replace(now=bet.log_e).next_match()
    return kind.log_e, highest


def test_of_fair_accounts_that_are_looked_at_always_few_ever_get_a_case():
    """Accounts at the very ceiling, in matches that vary, looked at after every few shots: at most alpha, not none."""
    rng, alpha, histories = np.random.default_rng(5), 0.05, 2500
    ends = [played_share(rng, 0.1, 0.05) for _ in range(histories)]
    share = np.mean([highest / DECIBAN >= limit_decibans(alpha) for _, highest in ends])
    assert 0.0 < share <= alpha
    below = [math.exp(played_share(rng, 0.06, 0.05)[0]) for _ in range(500)]
    assert np.mean(below) < 1.0


@given(st.integers(0, 40), st.integers(0, 40), st.floats(0.01, 0.9), st.floats(0.002, 0.4))
def test_a_bet_on_a_share_is_a_ratio_of_beta_binomials(k, rest, ceiling, clumping):
    """SciPy's beta-binomial gives the same ratio, whatever the order in which trials came."""
    bet, size = ShareBet(Ceiling(ceiling, clumping)), 1.0 / clumping - 1.0
    trials = np.array([1.0] * k + [0.0] * rest).reshape(-1, 1)
    for part in np.array_split(np.random.default_rng(k).permutation(trials), 3):
        bet.take(part)
    means = [ceiling, *(ceiling + (1.0 - ceiling) * part for part in BEYOND)]
    honest, *cheating = [stats.betabinom.logpmf(k, k + rest, mean * size, (1.0 - mean) * size) for mean in means]
    assert bet.log_e == pytest.approx(add_logs(cheating) - math.log(len(cheating)) - honest, abs=1e-6)


def test_hits_of_a_match_that_went_well_are_no_proof_and_hits_beyond_the_best_are():
    """At the best player's odds, varying from match to match, a bet is worth at most 1; far beyond them, much."""
    rng = np.random.default_rng(9)

    def played(odds: float) -> float:
        bet = HitsBet(3.0, 0.3)
        chances = rng.uniform(0.1, 0.6, 40)
        hits = rng.random(40) < detectors.raised(chances, odds * math.exp(0.3 * rng.normal()))
        bet.take(np.stack([hits, np.zeros(40), chances], 1))
        return bet.log_e

    worth = [math.exp(played(3.0)) for _ in range(3000)]
    assert np.mean(worth) <= 1.0 + 3.0 * np.std(worth) / math.sqrt(len(worth))
    assert np.median([played(60.0) for _ in range(20)]) > 20.0 * DECIBAN


@given(st.integers(0, 6), st.floats(0.1, 5.0), st.floats(0.01, 1.0), st.floats(3.0, 20.0))
def test_a_bet_on_incidents_is_a_ratio_of_gamma_mixed_poisson_processes(n, shape, honest, decibans):
    """SciPy's negative binomial, which is that mixture, gives the same ratio."""
    times = 10.0 ** (decibans / 10.0)
    bet = IncidentBet(shape)
    for _ in range(n):
        bet.incident(decibans)

    fair_, bold = (stats.nbinom.logpmf(n, shape, shape / (shape + due)) for due in (honest, times * honest))
    assert bet.log_e(honest, times * honest) == pytest.approx(bold - fair_, abs=1e-8)


def no_shots(n: int, **columns: object) -> ShotTable:
    """Shots of which only some columns say something."""
    ids, none = np.arange(1, n + 1), np.full(n, np.nan)
    values = dict.fromkeys(ShotTable._fields, none) | {
        name: np.zeros(n, bool)
        for name in ("hit", "head", "visible", "first", "flat", "skipped", "restless", "named_hit")
    }
    values |= {name: np.full((n, 2), np.nan) for name in ("stray", "error", "draw")}
    values |= {"number": ids, "entity": ids, "target": ids * 0, "weapon": ["sling"] * n, "kind": ["shot"] * n}
    return ShotTable(**(values | columns))


def test_a_trigger_by_the_clock_fires_when_the_weapon_is_ready_and_a_finger_a_little_later():
    """A trigger by the clock fires when its weapon is ready, a finger a little later; held triggers aren't asked."""
    rng = np.random.default_rng(4)

    def share(late: np.ndarray, automatic: frozenset[str] = frozenset()) -> np.ndarray:
        shots = no_shots(len(late), ready_s=late)
        return detectors.shot_trials(shots, Chances((1e9,), (1e9,), {}), automatic)["prompt_trigger"][:, 0]

    assert share(np.abs(rng.normal(0.0, 0.005, 60))).mean() > 0.95
    assert share(0.12 + rng.normal(0.0, 0.03, 60)).mean() < 0.1
    assert len(share(np.zeros(60), frozenset({"sling"}))) == 0


def test_a_client_that_sends_seldom_has_no_old_views_and_one_that_holds_back_has():
    """What waits 50 ms for the client's next message is no old view; what is 45 ms older still is one."""
    for late, held, old in ((0.045, 0.05, 0.0), (0.1, 0.05, 1.0), (0.045, 0.0, 1.0)):
        shots = no_shots(5, late_s=np.full(5, late), held_s=np.full(5, held))
        trials = detectors.shot_trials(shots, Chances((1e9,), (1e9,), {}), frozenset())
        assert trials["old_views"][:, 0].mean() == old


# -- calibration of findings ------------------------------------------------------------------------------------


def weights_with(honest_per_min: float, decibans: float) -> Calibration:
    rate = {
        line: {"slight": Rate(0.0, 0.0), "clear": Rate(honest_per_min, decibans)}
        for line in ("steady", "uneven", "rough")
    }
    held = load_calibration()
    return msgspec.structs.replace(held, findings={"fires_too_fast": rate}, shapes={"fires_too_fast": 50.0})


def finding(at: float, margin: float | None = None) -> Finding:
    return Finding("fires_too_fast", "c", "ada", 1, 1, at, 0.2, 0.1, margin, "s")


def test_a_burst_of_findings_is_one_incident_and_the_next_one_another(rules):
    """A burst of findings is one incident and the next one another."""
    watch = LiveEvidence(weights_with(0.1, 7.0), rules)
    watch.present("ada", "steady", 0.0)
    gains = [watch.finding(finding(10.0 + 0.05 * k)) for k in range(20)]
    assert [gain.decibans for found in gains for gain in found] == [7.0]
    assert [gain.decibans for gain in watch.finding(finding(20.0))] == [7.0]


@pytest.mark.parametrize("code", ["fires_too_fast", "over_rewind_limit", "repeated_sequence"])
def test_steady_cheating_is_as_visible_as_cheating_in_bursts_and_what_is_fair_isnt_evidence(rules, code):
    """Every 1.9 s for five minutes counts as much as every 2.1 s, and views past the cap and repeats count nothing."""

    def after(every_s: float) -> float:
        watch = LiveEvidence(weights_with(0.1, 7.0), rules)
        watch.present("ada", "steady", 0.0)
        for at in np.arange(0.0, 300.0, every_s):
            watch.finding(msgspec.structs.replace(finding(float(at)), code=code))
        watch.present("ada", "steady", 300.0)
        return watch.now("ada").get(code, 0.0) / DECIBAN

    often, seldom = after(1.9), after(2.1)
    assert often == seldom == 0.0 if code != "fires_too_fast" else often > 0.5 * seldom > 150.0


def test_other_rules_than_the_tables_mute_all_but_exact_tests_and_say_what_differs(rules):
    """A table from a game with another tick rate and weapons isn't carried over; contradictions still count."""
    held = load_calibration()
    there = calibrated_rules_of(rules) | {"tick rate": "30 Hz", "weapons": "0" * 12}
    table = msgspec.structs.replace(held, provenance=msgspec.structs.replace(held.provenance, calibrated_rules=there))
    watch = LiveEvidence(table, rules)
    assert watch.muted == ("tick rate", "weapons")
    watch.present("ada", "steady", 0.0)
    for code in ("fires_too_fast", "wrong_actor"):
        watch.finding(msgspec.structs.replace(finding(5.0), code=code))
    now = watch.now("ada")
    assert set(now) == set(EXACT)
    assert now["impossible_claims"] > 20.0 * DECIBAN
    spread = msgspec.structs.replace(
        held,
        provenance=msgspec.structs.replace(
            held.provenance, calibrated_rules=calibrated_rules_of(rules) | {"spread": "0" * 12}
        ),
    )
    other = LiveEvidence(spread, rules)
    other.present("ada", "steady", 0.0)
    other.finding(finding(5.0, 9.0))
    assert other.muted == ("spread",)
    same = msgspec.structs.replace(
        held, provenance=msgspec.structs.replace(held.provenance, calibrated_rules=calibrated_rules_of(rules))
    )
    whole = LiveEvidence(same, rules)
    assert whole.muted == ()
    whole.present("ada", "steady", 0.0)
    whole.finding(finding(5.0, 9.0))
    assert other.now("ada")["fires_too_fast"] == whole.now("ada")["fires_too_fast"] > 5.0 * DECIBAN
    with pytest.raises(tinclock.errors.UnknownNameError, match="exactaim"):
        LiveEvidence(held, rules, mute=["exactaim"])


def test_the_bet_on_findings_is_a_fair_one_at_the_fair_rate(rules):
    """At the busiest honest rate of incidents, the bet is worth 1 on average, within its own error."""
    rng, rate, minutes = np.random.default_rng(8), 0.5, 3.0
    watch = LiveEvidence(weights_with(rate, 3.0), rules)
    worth = []
    for number in range(1500):
        account, at = f"a{number}", 0.0
        watch.present(account, "steady", 0.0)
        while (at := at + rng.exponential(60.0 / rate)) < 60.0 * minutes:
            watch.finding(msgspec.structs.replace(finding(at), account=account))
        watch.present(account, "steady", 60.0 * minutes)
        worth.append(math.exp(watch.now(account)["fires_too_fast"]))
    assert np.mean(worth) <= 1.0 + 3.0 * np.std(worth) / math.sqrt(len(worth))
    assert np.mean(worth) > 0.8


def seen_of(counts: dict[str, int], found: list[Finding], until_s: float) -> Observations:
    """Ten seconds of a match in which nobody shoots: claims by account, and findings."""
    parties = {k: Party(k, a, a, "", 0.1, b"") for k, a in enumerate(counts, 1)}
    lines = {a: MeasuredLine(0.05, 0.0005) for a in counts}
    return Observations(until_s - 10.0, until_s, NO_SHOTS, NO_LOOKS, [(1, f) for f in found], counts, lines, parties)


def highest(rules: tinclock.Rules, stretches: list[Observations]) -> tuple[dict[str, float], tuple]:
    calibration = load_calibration()
    timeline = weigh(stretches, calibration, rules)
    return {a: peak(timeline.points(a, calibration.kinds())) for a in timeline.stages}, timeline.common


def test_everybody_at_sixty_reports_a_second_is_the_game_and_who_sends_far_more_is_not(rules):
    """How often clients report is the game's own matter: the ceiling follows the match's own median."""
    usual = {f"a{k}": 600 for k in range(7)}
    honest, _ = highest(rules, [seen_of(usual, [], 10.0 * k) for k in range(1, 19)])
    assert max(honest.values()) < 3.0
    told, _ = highest(rules, [seen_of({**usual, "flood": 3000}, [], 10.0 * k) for k in range(1, 19)])
    assert told["flood"] > 30.0
    assert max(v for a, v in told.items() if a != "flood") < 3.0


def test_what_most_accounts_of_a_match_show_is_nobodys_evidence(rules):
    """Findings that five of six accounts have are said in a line and weigh nothing; one account's own still do."""
    counts = {f"a{k}": 100 for k in range(6)}

    def found(accounts: list[str], until_s: float) -> list[Finding]:
        return [msgspec.structs.replace(finding(until_s - 5.0, 9.0), account=a) for a in accounts]

    most = [seen_of(counts, found([f"a{k}" for k in range(5)], 10.0 * t), 10.0 * t) for t in range(1, 9)]
    honest, common = highest(rules, most)
    assert [(one.kind, one.accounts, one.of) for one in common] == [("fires_too_fast", 5, 6)]
    assert max(honest.values()) < 1.0
    one, common = highest(rules, [seen_of(counts, found(["a0"], 10.0 * t), 10.0 * t) for t in range(1, 9)])
    assert common == ()
    assert one["a0"] > 30.0


def test_connections_are_told_apart_by_their_jitter():
    """Connections are told apart by their jitter."""
    assert [line_class(MeasuredLine(0.05, jitter)) for jitter in (0.001, 0.004, 0.02)] == ["steady", "uneven", "rough"]
    assert line_class(None) == "rough"


def test_the_table_of_weights_goes_out_and_comes_back_and_says_what_is_wrong(tmp_path):
    """The calibration goes out and comes back and says what is wrong."""
    held = load_calibration()
    assert sum(held.kinds().values()) == pytest.approx(1.0)
    assert load_calibration(save_calibration(held, tmp_path / "w.json")) == held
    for text, told in ((b"{", "no calibration"), (b'{"schema": 1}', "no calibration")):
        (tmp_path / "bad.json").write_bytes(text)
        with pytest.raises(EvidenceError, match=told):
            load_calibration(tmp_path / "bad.json")
    save_calibration(msgspec.structs.replace(held, schema=9), tmp_path / "new.json")
    with pytest.raises(EvidenceError, match="schema 9"):
        load_calibration(tmp_path / "new.json")


# -- what is seen ---------------------------------------------------------------------------------------------------


def test_panes_are_looked_through_and_what_stands_behind_them_is_not(level):
    """Random lines of sight against single rays that are cast on by hand, surface by surface."""
    rng = np.random.default_rng(2)
    eyes, points = (rng.uniform((-20, -14, 0.3), (20, 14, 2.0), (200, 3)) for _ in range(2))
    seen = Sight(level).clear(eyes, points)
    for eye, point, answer in zip(eyes, points, seen, strict=True):
        way = (point - eye) / np.linalg.norm(point - eye)
        at, blocked = 0.0, False
        while (
            hit := level.first(tuple(eye + at * way), tuple(way), float(np.linalg.norm(point - eye)) - at)
        ) is not None:
            blocked = blocked or hit.surface.blocks_sight
            at += hit.distance_m + 1e-4
            if blocked or at >= np.linalg.norm(point - eye):
                break
        assert answer == (not blocked)
    assert 20 < seen.sum() < 190
    assert not Sight(level).clear(np.full((1, 3), np.nan), points[:1]).any()


def test_a_live_history_and_its_recording_show_the_same_shots(match):
    """While it is ruled again, one shot seen in the referee's own history is what is seen of it in the file."""
    source = Recording(match)
    rules, later = source.require_header().rules, list(observed_in(source))
    parties = later[-1].parties
    wanted = {n: (s, k) for s in (x.shots for x in later) for k, n in enumerate(s.number.tolist()) if s.target[k]}
    compared = []

    def look(referee, ruling, _claim):
        if ruling.number not in wanted or len(compared) > 60:
            return
        live = Observer(rules, parties, Sight(referee.level)).shots(
            scene_of(referee.history, [e for e in parties if referee.history.columns.of(e) >= 0]), [ruling], {}
        )
        shots, row = wanted[ruling.number]
        if shots.off_m[row] < 0.5:
            compared.append((live.target[0], live.off_m[0], live.distance_m[0], live.visible[0]))
            assert live.target[0] == shots.target[row]
            assert (live.off_m[0], live.distance_m[0]) == pytest.approx(
                (shots.off_m[row], shots.distance_m[row]), abs=2e-4
            )

    replay(source, on_ruling=look)
    assert len(compared) > 30


@pytest.mark.parametrize(("edge", "seen"), [(0.15, True), (0.6, False)])
def test_who_shows_but_an_arm_is_in_sight_for_whom_shoots_at_it(rules, edge, seen):
    """A wall hides middle, head and feet up to its edge; behind a wider one nothing shows, and the shot is blind."""
    wall = tinclock.Level.from_boxes(
        [[9.0, edge - 2.5, 1.5]], [[0.05, 2.5, 1.5]], surfaces=[tinclock.types.Surface("brick")]
    )
    stage = Stage(rules, level=wall)
    ada = stage.enter("ada", team="copper", weapon="grit_rifle")
    bob = stage.enter("bob", (10.0, 0.0, 0.0), team="pewter", facing_rad=math.pi)
    stage.run(1.0)
    rulings = [stage.shoot("ada", "bob", part="right_forearm")]
    assert [hit.part for hit in rulings[0].hits] == (["right_forearm"] if seen else [])
    parties = {ada: Party(ada, "ada", "ada", "copper", 0.1, b""), bob: Party(bob, "bob", "bob", "pewter", 0.1, b"")}
    shots = Observer(rules, parties, Sight(wall)).shots(scene_of(stage.referee.history, [ada, bob]), rulings, {})
    assert (shots.target.tolist(), shots.visible.tolist()) == ([bob], [seen])
    assert shots.off_m[0] < 0.15


def test_a_shot_that_was_ruled_at_another_view_than_its_own_says_nothing_of_that_view(rules):
    """A steady line of 380 ms is ruled at the cap: its views are neither old nor young, another victim no finding."""
    stage = Stage(rules)
    ada = stage.enter("ada", team="copper", weapon="grit_rifle", round_trip_s=0.38)
    bob = stage.enter("bob", (10.0, 0.0, 0.0), team="pewter", facing_rad=math.pi)
    stage.run(1.0)
    for part, claimed in (("chest", bob), ("head", 999)):
        ruling = stage.shoot("ada", "bob", part=part, victim=claimed)
        assert "over_rewind_limit" in [finding.code for finding in ruling.findings]
        assert [finding.code for finding in telling(ruling)] == ["over_rewind_limit"]
        parties = {e: Party(e, n, n, n, 0.1, b"") for e, n in ((ada, "ada"), (bob, "bob"))}
        scene, lines = scene_of(stage.referee.history, [ada, bob]), {"ada": MeasuredLine(0.38, 0.0005)}
        shots = Observer(rules, parties, Sight(None)).shots(scene, [ruling], lines)
        assert np.isnan(shots.late_s).all()
        assert shots.target.tolist() == [bob]
        stage.run(0.3)


def test_unfair_accounts_get_their_case_within_half_a_minute_and_fair_ones_none(match):
    """By the table that ships; each for what it did."""
    source, calibration = Recording(match), load_calibration()
    timeline = weigh(observed_in(source), calibration, source.require_header().rules)
    points = {account: timeline.points(account, calibration.kinds()) for account in timeline.stages}
    assert {account for account in points if threshold_reached(points[account], limit_decibans(0.001))} == set(UNFAIR)
    strongest = {account: max(timeline.now(account).items(), key=lambda item: item[1])[0] for account in UNFAIR}
    assert strongest == {"clover": "exact_aim", "elder": "wrong_actor", "beryl": "claim_rate"}
    assert max(peak(points[account]) for account in points if account not in UNFAIR) < 15.0


def test_calibrating_puts_ceilings_over_what_fair_accounts_did(match):
    """Calibrating puts ceilings over what honest accounts did."""
    source = Recording(match)
    rules = source.require_header().rules
    collector = Collector(frozenset(name for name, weapon in rules.weapons.items() if weapon.automatic))
    for seen in observed_in(source):
        found = [finding for _, finding in seen.findings]
        collector.take(
            seen.shots, seen.gazes, found, seen.quality_of(), seen.accounts(), seen.claims, seen.until_s - seen.from_s
        )
    honest = [play for account, play in collector.plays.items() if account not in UNFAIR]
    cheating = [play for account, play in collector.plays.items() if account in UNFAIR]
    table = calibrate(honest * 40, cheating, CalibrationSource("a test", 1, 3, 1.5, 3, 1.5))  # as if there were enough
    for name, lines in table.ceilings.items():
        for line, ceiling in lines.items():
            if ceiling.share < 1.0:
                assert ceiling.share >= ceiling.typical, (name, line)
    assert table.findings["wrong_actor"]["steady"]["clear"].decibans > 5.0


# -- how good it is -------------------------------------------------------------------------------------------------


def labelled(kind: str, slope: float, n: int, rng: np.random.Generator) -> list[quality.Labelled]:
    cheats = {kind: 1.0} if kind else {}
    times = np.arange(1, 21) / 4.0
    return [
        quality.Labelled(f"{kind}{k}", "m", cheats, "wired", float(rng.random()), times,
                         np.cumsum(rng.normal(slope, 0.3, (20, 2)), 0))
        for k in range(n)
    ]  # fmt: skip


def test_shares_found_times_and_false_cases_are_counted_as_they_are():
    """Shares found, times and false cases are counted as they are."""
    rng, shares = np.random.default_rng(6), np.array([0.5, 0.5])
    honest, bold = labelled("", -0.3, 40, rng), labelled("bold", 2.0, 30, rng)
    (row,) = quality.detection_rows(bold, shares, 30.0)
    assert row.accounts == 30
    assert list(row.found) == sorted(row.found)
    assert row.found[-1] == 1.0
    assert 0.5 < row.median_min < 3.0
    area = quality.curves(quality.peaks(honest, shares), quality.peaks(bold, shares))
    assert area["roc_area"] == pytest.approx(1.0)
    none = quality.false_cases(honest, shares, 30.0, 300, rng)
    assert (none.cases, none.low) == (0, 0.0)
    assert none.high == pytest.approx(1.0 - 0.05 ** (1 / 40)), "forty people can't exclude less, however many histories"
    some = quality.false_cases(honest + labelled("", 1.0, 4, rng), shares, 30.0, 300, rng)
    assert 0 < some.cases < 300
    assert some.low < some.share < some.high


def test_what_is_usual_in_a_match_needs_three_accounts():
    """Three chatty accounts make chatting usual in their match; two are held against the calibrated rate."""
    calibration, rules = load_calibration(), load_garden().rules
    two = LiveEvidence(calibration, rules).claims({"ada": 800, "bob": 790}, 10.0, 10.0)
    three = LiveEvidence(calibration, rules).claims({"ada": 800, "bob": 790, "cid": 780}, 10.0, 10.0)
    assert min(gain.decibans for gain in two) > 30.0
    assert max(gain.decibans for gain in three) < 0.0


def test_a_ceiling_leaves_half_again_of_the_odds_above_the_best():
    """Accounts that all hit a third of the time get a ceiling whose odds are half again as large, and not a third."""
    alike = [SimpleNamespace(shares={("hit_fraction", "steady"): [20.0, 60.0]}, windows={}) for _ in range(40)]
    ceiling = _ceiling(alike, "hit_fraction", None)
    odds = ceiling.share / (1.0 - ceiling.share)
    assert odds == pytest.approx(1.5 * (1 / 3) / (2 / 3), rel=0.1)
