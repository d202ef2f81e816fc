"""The steps of the whole job: each takes a workspace, and puts core and system together."""
