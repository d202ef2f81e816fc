"""The verdicts that count as a failure, and that a bench may accept with a reason."""

FAILING = ("wrong", "unstable", "crashed", "hung", "undefined")
