"""What its instructions compute is not evaluated: differences are named, sameness never claimed."""

from hot_anvil.core.arch.operations import NOT_EVALUATED

EVALUATION = NOT_EVALUATED
