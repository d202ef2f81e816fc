"""The kinds of edge input sets, in the order they are tried."""

EDGES = {
    "empty": "a size of 0",
    "one": "a size of 1",
    "sizes": "odd sizes, and one less and one more than a vector of 16, 32 and 64 bytes holds",
    "equal": "all elements equal",
    "range_ends": "only the least and greatest values that the bench gives",
    "type_ends": "the least and greatest values of the type, 0, 1 and -1",
    "constants": "numbers that the code compares with, within the range that the bench gives",
    "promises": "one small number, where the source promises that passes of a loop are apart",
    "special": "NaN, infinities, -0 and denormal numbers among the others",
}
SIZES = ("empty", "one", "sizes")  # those that change sizes
