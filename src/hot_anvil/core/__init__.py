"""Pure functions over immutable records: no I/O, no printing, no processes.

Records are ``typing.NamedTuple`` classes: immutable, typed, and cheap to
define, which keeps the start-up of the command short.
"""
