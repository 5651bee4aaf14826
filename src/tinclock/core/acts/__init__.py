"""What each kind of claim does once its checks have passed: the ray, the blow, the launch, the move, the repair.

Checks that only one kind of claim has (a move's speed, an item's cooldown) stand here, beside the act that relies on
what they work out; those that several share are in `checks`. `procedures` puts both in order.
"""
