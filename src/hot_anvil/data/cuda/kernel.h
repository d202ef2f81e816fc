/* What CUDA sources expect to find, for clang without the vendor's headers. */
#ifndef HOT_ANVIL_KERNEL_H
#define HOT_ANVIL_KERNEL_H
#define __host__ __attribute__((host))
#define __device__ __attribute__((device))
#define __global__ __attribute__((global))
#define __shared__ __attribute__((shared))
#define __constant__ __attribute__((constant))
#define __launch_bounds__(...) __attribute__((launch_bounds(__VA_ARGS__)))
struct uint3 { unsigned x, y, z; };
struct dim3 { unsigned x, y, z; };
#include <__clang_cuda_builtin_vars.h>
#endif
