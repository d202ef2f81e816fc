"""Ask compilers what flags stand for."""

import re
from collections.abc import Sequence
from functools import cache

from hot_anvil.core.flags.told import READERS
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.system.process.running import run


class FlagTeller:
    """One compiler command that is asked about flags; each question once."""

    def __init__(self, chain: Toolchain, family: Family, language: str) -> None:
        self._driver, self._form = chain.drivers[language], family.flags_told
        self._own = chain.language_flags.get(language, chain.flags)
        self.told = cache(self._told)
        self.macros = cache(self._macros)

    def _told(self, flags: tuple[str, ...]) -> dict[str, str]:
        """Return option -> state under some flags; nothing where the compiler does not tell."""
        if self._form is None:
            return {}
        texts = [self._ask((*flags, *asked)) for asked in self._form.asks]
        return READERS[self._form.form](texts)

    def _macros(self, flags: tuple[str, ...]) -> frozenset[str]:
        """Return what stands for the processor's abilities: names of macros, or options told."""
        if self._form is None or not self._form.macros:
            return frozenset(self.told(flags))
        found = re.findall(r"^#define (\w+)", self._ask((*flags, *self._form.macros)), re.M)
        return frozenset(name for name in found if not name.startswith("__tune_"))

    def _ask(self, words: Sequence[str]) -> str:
        said = run([self._driver.path, *self._own, *words], "/", 30.0)
        return said.stdout + said.stderr
