"""The demo scenario: a walled kitchen garden, tin gardeners, their clients and their networks. All seeded.

What the clients do here shares no code with the core: what a client's screen showed is worked out by `screen`, so that
it can stand as the truth that rulings are compared with.
"""
