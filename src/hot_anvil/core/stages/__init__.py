"""What stands between source and assembly: a compiler's own forms of a function, one by one."""
