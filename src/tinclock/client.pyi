"""Client side in Python: projectile paths, spread and the published state, as the server computes them."""

from tinclock.core.combat.projectile_motion import ProjectilePath as ProjectilePath
from tinclock.core.combat.published import State as State
from tinclock.core.combat.published import apply_event as apply_event
from tinclock.core.combat.spread_stream import SpreadStream as SpreadStream
