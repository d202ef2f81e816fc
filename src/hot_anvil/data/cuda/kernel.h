/* What CUDA sources expect to find, for clang without the vendor's headers. */
#ifndef HOT_ANVIL_KERNEL_H
#define HOT_ANVIL_KERNEL_H
#define __host__ __attribute__((host))
#define __device__ __attribute__((device))
#define __global__ __attribute__((global))
#define __shared__ __attribute__((shared))
#define __constant__ __attribute__((constant))
#define __launch_bounds__(...) __attribute__((launch_bounds(__VA_ARGS__)))
typedef __SIZE_TYPE__ size_t;
struct uint3 { unsigned x, y, z; };
struct dim3 { unsigned x, y, z; };
#include <__clang_cuda_builtin_vars.h>

/* What kernels commonly call; the vendor's headers have the rest. */
#define HOT_ANVIL_INLINE static __device__ __attribute__((always_inline, unused)) inline
HOT_ANVIL_INLINE int atomicAdd(int *at, int by) { return __nvvm_atom_add_gen_i(at, by); }
HOT_ANVIL_INLINE unsigned atomicAdd(unsigned *at, unsigned by)
{ return (unsigned)__nvvm_atom_add_gen_i((int *)at, (int)by); }
HOT_ANVIL_INLINE float atomicAdd(float *at, float by) { return __nvvm_atom_add_gen_f(at, by); }
HOT_ANVIL_INLINE int atomicMax(int *at, int by) { return __nvvm_atom_max_gen_i(at, by); }
HOT_ANVIL_INLINE int atomicMin(int *at, int by) { return __nvvm_atom_min_gen_i(at, by); }
HOT_ANVIL_INLINE int atomicCAS(int *at, int if_it, int to)
{ return __nvvm_atom_cas_gen_i(at, if_it, to); }
#define HOT_ANVIL_LEAST_AND_MOST(type)                                      \
    HOT_ANVIL_INLINE type min(type a, type b) { return a < b ? a : b; } \
    HOT_ANVIL_INLINE type max(type a, type b) { return a > b ? a : b; }
HOT_ANVIL_LEAST_AND_MOST(int)
HOT_ANVIL_LEAST_AND_MOST(unsigned)
HOT_ANVIL_LEAST_AND_MOST(long long)
HOT_ANVIL_LEAST_AND_MOST(float)
HOT_ANVIL_LEAST_AND_MOST(double)
HOT_ANVIL_INLINE double max(double a, float b) { return max(a, (double)b); }
HOT_ANVIL_INLINE double max(float a, double b) { return max((double)a, b); }
HOT_ANVIL_INLINE double min(double a, float b) { return min(a, (double)b); }
HOT_ANVIL_INLINE double min(float a, double b) { return min((double)a, b); }
HOT_ANVIL_INLINE float fminf(float a, float b) { return __builtin_fminf(a, b); }
HOT_ANVIL_INLINE float fmaxf(float a, float b) { return __builtin_fmaxf(a, b); }
HOT_ANVIL_INLINE float sqrtf(float a) { return __builtin_sqrtf(a); }
HOT_ANVIL_INLINE float fabsf(float a) { return __builtin_fabsf(a); }
#if __CUDA_ARCH__ >= 700
HOT_ANVIL_INLINE int __shfl_down_sync(unsigned mask, int value, unsigned by)
{ return __nvvm_shfl_sync_down_i32(mask, value, (int)by, 31); }
HOT_ANVIL_INLINE float __shfl_down_sync(unsigned mask, float value, unsigned by)
{ return __nvvm_shfl_sync_down_f32(mask, value, (int)by, 31); }
HOT_ANVIL_INLINE int __shfl_up_sync(unsigned mask, int value, unsigned by)
{ return __nvvm_shfl_sync_up_i32(mask, value, (int)by, 0); }
HOT_ANVIL_INLINE int __shfl_xor_sync(unsigned mask, int value, int by)
{ return __nvvm_shfl_sync_bfly_i32(mask, value, by, 31); }
HOT_ANVIL_INLINE int __shfl_sync(unsigned mask, int value, int from)
{ return __nvvm_shfl_sync_idx_i32(mask, value, from, 31); }
HOT_ANVIL_INLINE unsigned __ballot_sync(unsigned mask, int holds)
{ return __nvvm_vote_ballot_sync(mask, holds); }
HOT_ANVIL_INLINE void __syncwarp(unsigned mask = 0xffffffffu) { __nvvm_bar_warp_sync(mask); }
#endif
#endif
