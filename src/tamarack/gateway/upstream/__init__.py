"""The upstream client: how a node asks a target, behind one interface.

`pool` is the real one; `scripted` answers from a script, for tests of what stands above it.
"""
