"""The version, which what the store keeps goes by too."""

__version__ = "0.2.0"
