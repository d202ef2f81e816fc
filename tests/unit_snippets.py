"""A snippet that unit tests of views are about."""

from hot_anvil.core.config.records import Snippet

SURGE = Snippet("surge", "", ("surge.c",), ("ebb", "flow"), "", {}, {}, per="n")
