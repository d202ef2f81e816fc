"""One module per command, each with ``add_arguments(parser)`` and ``run(args, out)``."""
