"""The errors a person can meet, by who must act.

AnvilError
  RequestError   the request or the bench is wrong            exit code 2
    ToolError    a tool failed on one build: it is refused
  MissingError   the machine lacks something needed           exit code 3
  FaultError     Hot Anvil itself did something wrong         exit code 70
"""


class AnvilError(Exception):
    """Base of all expected errors: one paragraph that says what to do."""

    exit_code = 1


class RequestError(AnvilError):
    """The request or the bench is wrong; the person can mend it."""

    exit_code = 2


class MissingError(AnvilError):
    """The machine lacks something that the request needs."""

    exit_code = 3


class ToolError(RequestError):
    """A tool of the machine failed on one build; the others can go on."""


class FaultError(AnvilError):
    """A check of our own failed: never the person's doing."""

    exit_code = 70
