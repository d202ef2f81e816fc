"""Outputs compared and judged: verdicts, crash and sanitizer reports."""
