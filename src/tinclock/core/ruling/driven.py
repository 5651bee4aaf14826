"""Move reports of bodies that the server moves: inputs, and the positions that their client predicts."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.combat.inputs import Inputs
from tinclock.core.plain import Fields
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.checks.lag import hear
from tinclock.core.ruling.work import Work

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import MoveClaim
    from tinclock.core.vectors import Triple


class InputWork(Work):
    """An input. push : cut down to a length of 1"""

    push: Triple = (0.0, 0.0, 0.0)

    def found(self) -> Fields:
        """Return the input for the server to simulate, and where it has the body now."""
        accepted = self.actor.accepted
        return {"direction": self.push, "position": None if accepted is None else accepted.position}


def take_input(claim: MoveClaim, work: InputWork) -> None:
    """Take the input over, no longer than a stick goes; it finds nothing by itself."""
    x, y, z = claim.push or (0.0, 0.0, 0.0)
    length = max(1.0, math.sqrt(x * x + y * y + z * z))
    work.push = x / length, y / length, z / length


def check_prediction(claim: MoveClaim, work: InputWork) -> Finding | None:
    """Find `prediction_differs` where the client predicted another position than the server simulated."""
    inputs, movement = work.actor.inputs, work.world.rules.movement_of(work.actor.rig)
    if inputs is None or movement is None:
        return None
    work.steps.append(Measure.PREDICTION.step(inputs.off_m, movement.prediction_tolerance_m))
    if inputs.off_m <= movement.prediction_tolerance_m:
        return None
    return work.find("prediction_differs", inputs.off_m, movement.prediction_tolerance_m)


def commit_input(claim: MoveClaim, work: InputWork) -> None:
    """Keep the prediction until the server has simulated this input, and take down the lag that the report tells."""
    actor = work.actor
    if actor.inputs is None:
        actor.inputs = Inputs()
    actor.inputs.seen()
    actor.inputs.note(claim.sequence, claim.position)
    hear(work.history, work.connection, claim.view, claim.client_time, work.received_at, claim.sequence)
