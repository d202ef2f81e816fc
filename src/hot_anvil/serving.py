"""Run by a worker of a fleet: answers the requests that come on standard input."""

from hot_anvil.system.fleet.child import answer_requests
from hot_anvil.usecases.serving import serve

if __name__ == "__main__":
    answer_requests(serve)
