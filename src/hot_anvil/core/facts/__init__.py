"""Facts: what holds for a function's code, each with the instructions that show it.

One module beside this one is one subject of facts; ``records`` names them all.
"""
