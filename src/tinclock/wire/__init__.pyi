"""The border with clients: messages, bundles of rules, the flood guard."""

from tinclock.wire.border import Border as Border
from tinclock.wire.border import JoinState as JoinState
from tinclock.wire.borders import Borders as Borders
from tinclock.wire.bundle import Bundle as Bundle
from tinclock.wire.bundle import client_bundle as client_bundle
from tinclock.wire.bundle import differences as differences
from tinclock.wire.codec import Limits as Limits
from tinclock.wire.codec import Received as Received
from tinclock.wire.codec import decode_message as decode_message
from tinclock.wire.codec import encode_claim as encode_claim
from tinclock.wire.flood import FloodGuard as FloodGuard
from tinclock.wire.flood import FloodLimits as FloodLimits
from tinclock.wire.flood import FloodState as FloodState
from tinclock.wire.messages import Answer as Answer
from tinclock.wire.messages import Join as Join
from tinclock.wire.messages import Joined as Joined
from tinclock.wire.messages import News as News
from tinclock.wire.messages import Ping as Ping
from tinclock.wire.messages import Pong as Pong
from tinclock.wire.messages import Refused as Refused
from tinclock.wire.messages import Seen as Seen
from tinclock.wire.messages import ToClient as ToClient
from tinclock.wire.messages import Whole as Whole
from tinclock.wire.messages import encode as encode
from tinclock.wire.messages import schemas as schemas
