"""What an opponent gains by choosing its views, and what honest clients of other games lose, over one garden match."""

from __future__ import annotations

import pytest
from shopping import BLURS_ALL, ODD, UNEVEN, Gain, Policy, World


@pytest.fixture(scope="module")
def world() -> World:
    """Half a minute with eight players."""
    return World(70, 30.0)


def everybody(gains: dict[str, Gain]) -> Gain:
    """All lines together."""
    total = Gain()
    for gain in gains.values():
        total = total.plus(gain)
    return total


POLICIES: dict[str, tuple[Policy, float]] = {
    "chooses": (Policy(), 0.035),
    "tells no lag": (Policy(tells=False, stamps=False), 0.045),
    "late pongs": (Policy(tells=False, stamps=False, late_pongs=0.5, late_s=0.11), 0.05),
    "late pongs, told": (Policy(late_pongs=0.5, late_s=0.11), 0.035),
    "free numbers": (Policy(free_numbers=True), 0.035),
    "rewind limit as lag": (Policy(extra_s=0.3), 0.035),
    "silence": (Policy(silent_s=2.1), 0.045),
    "leaping clock": (Policy(steps_s=0.13), 0.04),
    "reconnects": (Policy(reconnects_s=10.0), 0.04),
    "second connections": (Policy(reconnects_s=5.0, second=True), 0.04),
    "breathing lag": (Policy(breathes_s=0.12), 0.035),
    "blurs stamps": (Policy(dither_s=0.2, late_pongs=0.75, late_s=0.11, silent_s=1.0, reconnects_s=10.0), 0.07),
    "tells no lag, late pongs, uneven reports": (UNEVEN, 0.055),
    "everything": (BLURS_ALL, 0.06),
}
"""Policies, with the widest choice of a view that each may get, on average over all lines, in seconds."""


@pytest.mark.parametrize("name", POLICIES)
def test_no_policy_chooses_among_more_views_than_its_line_explains(world: World, name: str):
    """Whatever a client tells, stamps or withholds, its choice stays narrow and adds few hits."""
    policy, widest_s = POLICIES[name]
    honest, found = everybody(world.replay(Policy(), chooses=False)), everybody(world.replay(policy))
    assert found.shots > 250
    assert found.choice_s / found.shots <= widest_s
    assert found.hits <= 1.1 * honest.hits


@pytest.mark.parametrize("name", ODD)
def test_honest_clients_of_other_games_keep_their_views_and_get_no_evidence(world: World, name: str):
    """Slow senders, batches, clocks that are set or drift, frame stamps and losses cost few shots and prove nothing."""
    gains = world.replay(ODD[name], chooses=False)
    steady = everybody({quality: gain for quality, gain in gains.items() if quality != "awful"})
    assert steady.shots > 200
    assert steady.as_claimed >= 0.97 * steady.shots
    assert everybody(gains).decibans < 10.0
