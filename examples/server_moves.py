"""The server moves the bodies: clients send inputs, predict, and correct themselves by what the server acknowledges.

Each report carries the input of one frame and the position that the client predicts after it. The server simulates the
input and says where the body is; the receipts name the last input that this position includes. A prediction that is off
is flagged, because client and server then simulate with different numbers.
"""

from msgspec.structs import replace

import tinclock
from tinclock.sample import data_file

FRAME_S, SPEED_M_S = 1.0 / 32.0, 5.0
rules = tinclock.load_rules(data_file("garden.toml"))
rules = replace(rules, movement=replace(rules.movement, moved_by="server", prediction_tolerance_m=0.05))
referee = tinclock.Referee(rules, seed=6)
ada = referee.admit(connection="c-1", account="ada", rig="gardener")


class Client:
    """A client that applies its inputs at once, and again on top of each position that the server acknowledges."""

    def __init__(self, speed_m_s: float) -> None:
        self.speed_m_s, self.x, self.sequence = speed_m_s, 0.0, 0
        self.waiting: list[tuple[int, float]] = []

    def frame(self, push: float) -> tinclock.claims.MoveClaim:
        self.sequence += 1
        self.x += push * self.speed_m_s * FRAME_S
        self.waiting.append((self.sequence, push))
        stamp = self.sequence * FRAME_S
        return tinclock.claims.MoveClaim(self.sequence, ada, (self.x, 0.0, 0.0), stamp, (push, 0.0, 0.0))

    def told(self, receipt: tinclock.Receipt) -> None:
        """Begin at the server's position, and apply the inputs that it does not include yet."""
        state = receipt.state
        if state is None or state.position is None or not state.input:
            return
        self.waiting = [(number, push) for number, push in self.waiting if number > state.input]
        self.x = state.position[0] + sum(push * self.speed_m_s * FRAME_S for _, push in self.waiting)


def play(client: Client, frames: int, begin: int, at: float) -> tuple[float, int]:
    """Play some frames from a position of the server's on; returns where the body is, and the number of findings."""
    found = 0
    for number in range(begin, begin + frames):
        claim = client.frame(1.0)
        ruling = referee.rule("c-1", claim, received_at=number * FRAME_S)
        found += len(ruling.findings)
        push = ruling.direction or (0.0, 0.0, 0.0)
        at += push[0] * SPEED_M_S * FRAME_S  # the server's own simulation, by its own speed
        referee.set_position(ada, (at, 0.0, 0.0), number * FRAME_S, input=claim.sequence)
        client.told(ruling.receipt())
    return at, found


referee.set_position(ada, (0.0, 0.0, 0.0), 0.0)
client = Client(SPEED_M_S)
at, found = play(client, 32, 1, 0.0)
print(f"a client with the server's speed: the body at {at:.2f} m, the client at {client.x:.2f} m, {found} findings")
client.speed_m_s = 7.5  # another build, or a cheat: it only fools itself
at, found = play(client, 32, 33, at)
off = client.x - at
print(f"a client that moves at 7.5 m/s: the body at {at:.2f} m, the client off by {off:.2f} m, {found} findings")
