"""The errors a person can meet, by who must act.

AnvilError
  RequestError   the request or the bench is wrong            exit code 2
    ToolError    a tool failed on one build: it is refused
    UntrustedError  a bench would run programs, and nobody said that it may
  MissingError   the machine lacks something needed           exit code 3
  FaultError     Hot Anvil itself did something wrong         exit code 70

Texts speak of benches and of the API; where one is about a parameter, ``about`` names it, and the
command line says the option that it came from.
"""

import errno

# What the system says where it has too little of something, or a limit is set.
OF_THE_MACHINE = (
    errno.EMFILE, errno.ENFILE, errno.ENOMEM, errno.EAGAIN, errno.EROFS, errno.EACCES, errno.EIO,
)  # fmt: skip


class AnvilError(Exception):
    """Base of all expected errors: one paragraph that says what to do."""

    exit_code = 1

    def __init__(self, text: str, about: str = "") -> None:
        super().__init__(text)
        self.about = about  # the parameter of the API that is wrong, "" for none


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


class UntrustedError(RequestError):
    """A bench would have programs run that it names itself, and nobody said that it may."""

    def __init__(self, file: str, programs: tuple[str, ...]) -> None:
        listed = "; ".join(programs)
        super().__init__(
            f"{file} has programs run that it names itself: {listed}. Look at it; if you trust it, "
            "say so with --trust (kept for this content)."
        )
        self.programs = programs


def lacks_room(error: BaseException) -> bool:
    """Tell whether an error only says that too little memory, or too few threads, are allowed."""
    said = ("start new thread", "failed to map segment", "annot allocate memory")
    return isinstance(error, MemoryError) or any(text in str(error) for text in said)
