"""riscv."""
