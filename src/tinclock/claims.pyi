"""Claims: messages in which a client reports an action; the referee rules on them."""

from tinclock.core.ruling.claims import Claim as Claim
from tinclock.core.ruling.claims import ImpactClaim as ImpactClaim
from tinclock.core.ruling.claims import LaunchClaim as LaunchClaim
from tinclock.core.ruling.claims import MeleeClaim as MeleeClaim
from tinclock.core.ruling.claims import MoveClaim as MoveClaim
from tinclock.core.ruling.claims import ShotClaim as ShotClaim
from tinclock.core.ruling.claims import StatusClaim as StatusClaim
from tinclock.core.ruling.claims import TriggerClaim as TriggerClaim
from tinclock.core.ruling.claims import UseClaim as UseClaim
from tinclock.core.ruling.claims import WeaponActionClaim as WeaponActionClaim
