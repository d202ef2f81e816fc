"""The steps of the whole job: each takes a workshop, and puts core and system together."""
