"""Code as records: functions that hold instructions with their lines."""
