"""Exact tests: at most 1 on average for everybody who is honest, whatever else they are, and large for who isn't."""

import math

import numpy as np
import pytest

from tinclock.core.evidence.detectors import DETECTORS
from tinclock.core.evidence.eprocess import DECIBAN
from tinclock.core.evidence.exact import (
    BLOCK_S,
    COPIES,
    EXACT,
    LATTICE,
    BlockBet,
    DrawBet,
    ExactTests,
    TwoChances,
)
from tinclock.core.evidence.spread import strays
from tinclock.core.findings import FINDINGS, Finding
from tinclock.evidence import load_calibration

MATCHES, SHOTS, WIDEST_RAD, FAR_M = 400, 30, math.radians(2.5), 12.0


def mean_at_most_one(worth, slack=3.0):
    worth = np.array(worth)
    return worth.mean() <= 1.0 + slack * worth.std() / math.sqrt(len(worth))


def drawn(rng, cancels, hand_rad, chosen_of=1):
    """Ln of the e-value, its peak, after a match's shots of somebody whose hand errs and who cancels some spread."""
    bet, highest = DrawBet(hoped=chosen_of > 1), 0.0
    for _ in range(SHOTS):
        draws = rng.random((chosen_of, 2))
        draw = draws[np.argmin((strays(draws, WIDEST_RAD, False) ** 2).sum(1))]
        sent = strays(draw[None], WIDEST_RAD, False)[0]
        # a hand that is heavy, off to one side, and learns from where its last shots went
        error = hand_rad * rng.standard_t(3.0, 2) + (0.4 * hand_rad, 0.0) - cancels * sent
        bet.take(draw, error, WIDEST_RAD, False, FAR_M)
        highest = max(highest, bet.log_e)
    return bet.log_e, highest


@pytest.mark.parametrize("hand_deg", [0.1, 1.0, 6.0])
def test_who_doesnt_know_the_spread_is_worth_at_most_one_whenever_one_looks(hand_deg):
    """Whoever doesn't know the spread is worth at most 1 on average, and seldom ever much, whatever the hand."""
    rng = np.random.default_rng(round(10 * hand_deg))
    ends = [drawn(rng, 0.0, math.radians(hand_deg)) for _ in range(MATCHES)]
    assert mean_at_most_one([math.exp(end) for end, _ in ends])
    assert np.mean([highest >= 10.0 * DECIBAN for _, highest in ends]) <= 0.1 + 3.0 * 0.3 / math.sqrt(MATCHES)


def test_each_copy_of_a_draw_is_as_likely_as_the_draw_itself():
    """The copies that a draw is compared with are the same ones for each of them, so that none is more likely."""
    draw = np.array([0.31, 0.77])
    copies = (draw + LATTICE) % 1.0
    for other in copies:
        again = (other + LATTICE) % 1.0
        apart = np.abs(copies[:, None] - again[None])
        assert (np.minimum(apart, 1.0 - apart).sum(-1).min(1) < 1e-9).all()
    assert len(np.unique(copies.round(9), axis=0)) == COPIES


def test_who_cancels_the_spread_or_picks_its_numbers_is_found_within_a_magazine_or_two():
    """An aim that cancels the spread, and numbers that were picked for theirs, gain 20 decibans in thirty shots."""
    rng = np.random.default_rng(3)
    assert np.median([drawn(rng, 1.0, math.radians(1.0))[0] for _ in range(20)]) > 20.0 * DECIBAN
    assert np.median([drawn(rng, 0.0, math.radians(6.0), chosen_of=6)[0] for _ in range(20)]) > 20.0 * DECIBAN


@pytest.mark.parametrize(("chance", "straying"), [(0.05, 0.05), (0.4, 0.4), (0.95, 0.95), (0.6, 0.3)])
def test_who_strays_without_looking_is_worth_at_most_one(chance, straying):
    """Views that stray without regard to the aim are worth at most 1 on average, and fewer hits with them less."""
    rng, worth = np.random.default_rng(round(100 * chance)), []
    for _ in range(4000):
        bet = TwoChances()
        for _ in range(40):
            if rng.random() < 0.3:
                bet.strayed_one(rng.random() < straying)
            else:
                bet.other(rng.random() < chance)
        worth.append(math.exp(bet.log_e))
    assert mean_at_most_one(worth)


def test_who_strays_to_hit_is_found():
    """Straying only to where the shot hits gains a case's worth in a few minutes of shots."""
    rng, bet = np.random.default_rng(5), TwoChances()
    for _ in range(100):
        if rng.random() < 0.4:
            bet.other(True)
        elif rng.random() < 0.5:
            bet.strayed_one(True)
        else:
            bet.other(False)
    assert bet.log_e > 30.0 * DECIBAN


@pytest.mark.parametrize(("most", "second_half"), [(0.1, True), (0.001, False)])
def test_who_shows_something_as_seldom_as_allowed_is_worth_at_most_one_at_any_moment(most, second_half):
    """A client that shows something as often as its null allows is worth at most 1, at the moment that flatters it."""
    rng, worth = np.random.default_rng(11), []
    for _ in range(20000):
        bet, best = BlockBet(most, second_half), None
        for block in range(4):
            bet.goes_on(BLOCK_S * block)
            if rng.random() < most:
                bet.event(BLOCK_S * (block + (0.7 if second_half else 0.1)))
                best = bet.log_e if best is None else best  # whoever stops when it looks worst
        worth.append(math.exp(bet.log_e if best is None else best))
    assert mean_at_most_one(worth)


def test_one_event_of_a_block_counts_and_only_where_it_was_measured_in_that_block():
    """Of one block only one event counts, and only in its second half where it was measured over half a block."""
    bet = BlockBet(0.1, second_half=True)
    bet.goes_on(0.0)
    paid = bet.log_e
    assert paid < 0.0
    bet.event(3.0)
    assert bet.log_e == paid
    bet.event(20.0)
    once = bet.log_e
    bet.event(21.0)
    assert bet.log_e == once > 5.0 * DECIBAN


def finding(code, observed=None, limit=None, at=1.0):
    return Finding(code, "c", "ada", 1, 1, at, observed, limit)


def test_only_impacts_that_cant_be_count_and_not_those_that_the_line_explains():
    """An impact off its projectile's way, or of a number never issued, counts; one that is only late doesn't."""
    for honest in (finding("no_impact"), finding("unknown_projectile", 3.0, 9.0), finding("projectile_over", 2.0, 1.0)):
        assert ExactTests().finding(honest) is None
    for cheating in (
        finding("no_impact", 2.0, 0.5),
        finding("unknown_projectile", 30.0, 9.0),
        finding("wrong_projectile"),
    ):
        watch = ExactTests()
        moved = watch.finding(cheating)
        assert moved.name == "impossible_impacts"
        assert watch.now()["impossible_impacts"] > 20.0 * DECIBAN


def test_exact_tests_come_first_and_have_a_quarter_of_the_bet():
    """Exact tests come first among all kinds, and a quarter of the bet lies on them."""
    kinds = load_calibration().kinds()
    assert list(kinds)[: len(EXACT)] == list(EXACT)
    assert sum(kinds[name] for name in EXACT) == pytest.approx(0.25)
    assert sum(kinds.values()) == pytest.approx(1.0)


def test_no_kind_of_evidence_has_the_name_of_another():
    """Codes of findings, exact tests and detectors are kinds of one table: none has the name of another."""
    assert not set(EXACT) & set(FINDINGS)
    assert not set(EXACT) & set(DETECTORS)
    assert not set(DETECTORS) & set(FINDINGS)
