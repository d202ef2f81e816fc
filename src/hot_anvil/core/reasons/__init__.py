"""Why code differs: rules over the two sides of a function, one module per subject.

A new reason is a rule in the module of its subject, listed in its ``RULES``.
"""
