"""Run by a worker of a fleet: answers the one request that comes on standard input."""

from hot_anvil.system.fleet.child import answer_one
from hot_anvil.usecases.serving import serve

if __name__ == "__main__":
    answer_one(serve)
