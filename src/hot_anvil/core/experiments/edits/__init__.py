"""Edits of sources, a module each: when it may help, the edit, and what the author must promise.

Every module has LANGUAGES and ``experiments(subject)``, which gives what is worth trying.
"""

from collections.abc import Iterator
from importlib import import_module
from pkgutil import iter_modules

from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.experiments.subject import Subject

_HELPERS = 3  # functions that the entry calls in which edits are tried too


def edits_of(subject: Subject) -> Iterator[Experiment]:
    """Give the experiments of every module on an entry, and on helpers with loops of their own."""
    if subject.place is None:
        return
    yield from _of_function(subject)
    helpers = [subject.of_helper(name) for name in subject.helpers]
    for helper in [one for one in helpers if one.loops][:_HELPERS]:
        for one in _of_function(helper):
            yield one._replace(name=f"{one.name} in {helper.entry}", apart=())


def _of_function(subject: Subject) -> Iterator[Experiment]:
    for name in sorted(module.name for module in iter_modules(__path__)):
        module = import_module(f"{__name__}.{name}")
        if subject.source.language in module.LANGUAGES:
            yield from module.experiments(subject)
