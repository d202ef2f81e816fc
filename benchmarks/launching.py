"""How many thread instructions a second the simulated device executes, on one core.

    python benchmarks/launching.py

Needs clang-16, or nvcc. Prints the rate for grids of several sizes, races looked for, decoding and
memory included.
"""

import sys
import tempfile
import time
from pathlib import Path

from hot_anvil.api import open_bench

KERNELS = """typedef int int32_t;
extern "C" __global__ void crc(const unsigned char *in, unsigned *out, int32_t n)
{
    int i = blockIdx.x * blockDim.x + threadIdx.x;
    if (i >= n)
        return;
    unsigned c = 0xffff;
    for (int k = 0; k < 9; k++) {
        c ^= in[i * 9 + k] << 8;
        for (int b = 0; b < 8; b++)
            c = (c & 0x8000) ? (c << 1 ^ 0x1021) & 0xffff : c << 1 & 0xffff;
    }
    out[i] = c;
}
extern "C" __global__ void summed(const unsigned char *in, unsigned *out, int32_t n)
{
    __shared__ unsigned s[128];
    int t = threadIdx.x;
    s[t] = in[blockIdx.x * 128 + t];
    __syncthreads();
    for (int k = 64; k > 0; k >>= 1) {
        if (t < k)
            s[t] += s[t + k];
        __syncthreads();
    }
    if (t == 0)
        out[blockIdx.x] = s[0];
}
"""
BENCH = """[flags]
own = { clang = "-O2 --cuda-gpu-arch=sm_80", nvcc = "-arch=sm_80" }
[grid]
toolchains = ["clang-16@nvptx64"]
[[snippet]]
name = "kernels"
sources = ["kernels.cu"]
entries = ["crc", "summed"]
launch = { grid = "n // 128", block = 128 }
sweep = { n = [1024, 8192, 65536] }
[snippet.inputs]
in = { fill = "uniform(0, 255)", count = "n * 9" }
out = { fill = "zeros", count = "n" }
n = "n"
"""
LEAST = 2e6  # thread instructions a second that are promised, of a grid that fills the device


def main() -> int:
    """Measure; return 1 where the largest grid is below what is promised."""
    short = False
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "kernels.cu").write_text(KERNELS)
        Path(folder, "anvil.toml").write_text(BENCH)
        anvil = open_bench(folder)
        anvil.launch()  # compiles, and loads what it needs
        for entry in ("crc", "summed"):
            for size in (1024, 8192, 65536):
                began = time.perf_counter()
                (one,) = anvil.launch((), (), (entry,), f"n={size}")
                rate = one.total("threads") / (time.perf_counter() - began)
                short |= size == 65536 and rate < LEAST
                print(f"{entry:8} {size:>7,} threads: {rate / 1e6:6.1f} million thread "
                      "instructions a second")  # fmt: skip
    return 1 if short else 0


if __name__ == "__main__":
    sys.exit(main())
