"""The gateway with clients: messages, bundles of rules, the flood guard."""

from tinclock.wire.bundled_rules import ClientRules as ClientRules
from tinclock.wire.bundled_rules import client_rules as client_rules
from tinclock.wire.bundled_rules import differences as differences
from tinclock.wire.codec import Limits as Limits
from tinclock.wire.codec import Received as Received
from tinclock.wire.codec import decode_message as decode_message
from tinclock.wire.codec import encode_claim as encode_claim
from tinclock.wire.flood import FloodGuard as FloodGuard
from tinclock.wire.flood import FloodLimits as FloodLimits
from tinclock.wire.flood import FloodState as FloodState
from tinclock.wire.gateway import Gateway as Gateway
from tinclock.wire.gateway import JoinState as JoinState
from tinclock.wire.gateways import Gateways as Gateways
from tinclock.wire.messages import EventBatch as EventBatch
from tinclock.wire.messages import FullState as FullState
from tinclock.wire.messages import GameMessage as GameMessage
from tinclock.wire.messages import Join as Join
from tinclock.wire.messages import JoinAccepted as JoinAccepted
from tinclock.wire.messages import JoinRefused as JoinRefused
from tinclock.wire.messages import Ping as Ping
from tinclock.wire.messages import Pong as Pong
from tinclock.wire.messages import ReceiptMessage as ReceiptMessage
from tinclock.wire.messages import ToClient as ToClient
from tinclock.wire.messages import ViewReport as ViewReport
from tinclock.wire.messages import encode as encode
from tinclock.wire.messages import schemas as schemas
