/* A year of levels: the mean of each day, levels clamped to the sensor's range, how often each came. */
typedef short int16_t;
typedef int int32_t;

#define A_DAY 128 /* levels, and threads of a block */

/* Each block adds up one day in shared memory. */
extern "C" __global__ void year_mean(const int16_t *levels, int32_t *means, int32_t days)
{
    __shared__ int32_t sums[A_DAY];
    int32_t own = threadIdx.x, day = blockIdx.x;
    if (day >= days)
        return;
    sums[own] = levels[day * A_DAY + own];
    __syncthreads();
    for (int32_t half = A_DAY / 2; half > 0; half /= 2) {
        if (own < half)
            sums[own] += sums[own + half];
        __syncthreads();
    }
    if (own == 0)
        means[day] = sums[0] / A_DAY;
}

/* The same, with a barrier too few: some warps add what others have not stored yet. */
extern "C" __global__ void year_mean_hasty(const int16_t *levels, int32_t *means, int32_t days)
{
    __shared__ int32_t sums[A_DAY];
    int32_t own = threadIdx.x, day = blockIdx.x;
    if (day >= days)
        return;
    sums[own] = levels[day * A_DAY + own];
    for (int32_t half = A_DAY / 2; half > 0; half /= 2) {
        if (own < half)
            sums[own] += sums[own + half];
        __syncthreads();
    }
    if (own == 0)
        means[day] = sums[0] / A_DAY;
}

extern "C" __global__ void year_clamp(const int16_t *levels, int16_t *kept, int32_t n, int32_t low,
                                      int32_t high)
{
    int32_t i = blockIdx.x * blockDim.x + threadIdx.x;
    if (i >= n)
        return;
    int32_t level = levels[i];
    if (level < low)
        level = low;
    else if (level > high)
        level = high;
    kept[i] = (int16_t)level;
}

/* Levels in steps of 64 mm, counted in shared memory first. */
extern "C" __global__ void year_histogram(const int16_t *levels, int32_t *counts, int32_t n)
{
    __shared__ int32_t own[16];
    if (threadIdx.x < 16)
        own[threadIdx.x] = 0;
    __syncthreads();
    for (int32_t i = blockIdx.x * blockDim.x + threadIdx.x; i < n; i += gridDim.x * blockDim.x)
        atomicAdd(&own[(levels[i] + 512) / 64 & 15], 1);
    __syncthreads();
    if (threadIdx.x < 16)
        atomicAdd(&counts[threadIdx.x], own[threadIdx.x]);
}

/* Which multiprocessor each block ran on, asked of the device itself. */
extern "C" __global__ void year_places(int32_t *places)
{
    int32_t place;
    asm volatile("mov.u32 %0, %%smid;" : "=r"(place));
    if (threadIdx.x == 0)
        places[blockIdx.x] = place;
}
