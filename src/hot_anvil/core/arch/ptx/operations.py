"""What PTX's instructions compute is not evaluated: a thread's result is not the program's."""

from hot_anvil.core.arch.operations import NOT_EVALUATED

EVALUATION = NOT_EVALUATED
