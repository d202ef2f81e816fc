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
_OF_THE_MACHINE = (
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


def cannot(what: str, error: OSError) -> AnvilError:
    """Return the error for something that cannot be done, such as "x.json: cannot be written"."""
    kind = MissingError if error.errno in (errno.ENOSPC, errno.EDQUOT) else RequestError
    return kind(f"{what} ({error.strerror}).")


OF_THE_MACHINE = (
    "This is the machine's trouble, or a limit set for this process. Nothing finished is lost."
)


def machine_trouble(error: Exception) -> MissingError | None:
    """Return what an error says that the machine has too little of, None where it is another."""
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        return MissingError(
            f"the disk is full ({error.filename or 'while writing'}). Nothing finished is lost; "
            "free some space and run the command again."
        )
    if isinstance(error, OSError) and error.errno in _OF_THE_MACHINE:
        where = f" ({error.filename})" if error.filename else ""
        return MissingError(f"{error.strerror}{where}. {OF_THE_MACHINE}")
    said = ("start new thread", "failed to map segment", "annot allocate memory")
    if isinstance(error, MemoryError) or any(text in str(error) for text in said):
        return MissingError(
            "too little memory, or too few threads, are allowed here. Nothing finished is lost."
        )
    return None
