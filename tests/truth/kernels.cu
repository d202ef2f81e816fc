/* Kernels over levels, each with something of its own that the device must get right. */
typedef short int16_t;
typedef int int32_t;
typedef unsigned uint32_t;
typedef unsigned char uint8_t;
#define KERNEL extern "C" __global__ void
#define OWN int i = blockIdx.x * blockDim.x + threadIdx.x

KERNEL added(const float *a, const float *b, float *sum, int32_t n)
{
    OWN;
    if (i < n)
        sum[i] = a[i] + b[i];
}
KERNEL summed(const int32_t *in, int32_t *out, int32_t n)
{
    __shared__ int s[128];
    int t = threadIdx.x;
    OWN;
    s[t] = i < n ? in[i] : 0;
    __syncthreads();
    for (int k = blockDim.x / 2; k > 0; k >>= 1) {
        if (t < k)
            s[t] += s[t + k];
        __syncthreads();
    }
    if (t == 0)
        out[blockIdx.x] = s[0];
}
KERNEL multiplied(const float *A, const float *B, float *C, int32_t n)
{
    __shared__ float a[16][16], b[16][16];
    int r = blockIdx.y * 16 + threadIdx.y, c = blockIdx.x * 16 + threadIdx.x;
    float sum = 0;
    for (int m = 0; m < n / 16; m++) {
        a[threadIdx.y][threadIdx.x] = A[r * n + m * 16 + threadIdx.x];
        b[threadIdx.y][threadIdx.x] = B[(m * 16 + threadIdx.y) * n + c];
        __syncthreads();
        for (int k = 0; k < 16; k++)
            sum += a[threadIdx.y][k] * b[k][threadIdx.x];
        __syncthreads();
    }
    C[r * n + c] = sum;
}
KERNEL running(const int32_t *in, int32_t *out, int32_t n)
{
    __shared__ int s[256];
    int t = threadIdx.x;
    s[t] = t < n ? in[t] : 0;
    __syncthreads();
    for (int k = 1; k < 256; k <<= 1) {
        int v = t >= k ? s[t - k] : 0;
        __syncthreads();
        s[t] += v;
        __syncthreads();
    }
    if (t < n)
        out[t] = s[t];
}
KERNEL counted(const uint8_t *in, uint32_t *out, int32_t n)
{
    __shared__ unsigned own[256];
    own[threadIdx.x] = 0;
    __syncthreads();
    for (int i = blockIdx.x * blockDim.x + threadIdx.x; i < n; i += gridDim.x * blockDim.x)
        atomicAdd(&own[in[i]], 1u);
    __syncthreads();
    atomicAdd(&out[threadIdx.x], own[threadIdx.x]);
}
KERNEL of_warps(const float *in, float *out, int32_t n)
{
    OWN;
    float v = i < n ? in[i] : 0.f;
    for (int o = 16; o; o >>= 1)
        v += __shfl_down_sync(0xffffffffu, v, o);
    if ((threadIdx.x & 31) == 0)
        out[i / 32] = v;
}
KERNEL places(uint32_t *out)
{
    unsigned at;
    asm volatile("mov.u32 %0, %%smid;" : "=r"(at));
    if (threadIdx.x == 0)
        out[blockIdx.x] = at;
}
KERNEL parted(const int32_t *in, int32_t *out, int32_t n)
{
    OWN;
    if (i >= n)
        return;
    int v = in[i];
    if (v & 1) {
        for (; v > 3; v /= 3)
            v -= 1;
    } else {
        v /= 2;
        if (v % 3 == 0)
            v += 7;
    }
    out[i] = v;
}
KERNEL crc(const uint8_t *in, uint32_t *out, int32_t n)
{
    OWN;
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
KERNEL smoothed(const float *in, float *out, int32_t n)
{
    __shared__ float s[130];
    int t = threadIdx.x;
    OWN;
    s[t + 1] = i < n ? in[i] : 0;
    if (t == 0)
        s[0] = i ? in[i - 1] : 0;
    if (t == blockDim.x - 1)
        s[t + 2] = i + 1 < n ? in[i + 1] : 0;
    __syncthreads();
    if (i < n)
        out[i] = 0.25f * s[t] + 0.5f * s[t + 1] + 0.25f * s[t + 2];
}
#define TURNED(name, width)                                                                       \
    KERNEL name(const float *in, float *out, int32_t n)                                           \
    {                                                                                             \
        __shared__ float s[32][width];                                                            \
        int x = blockIdx.x * 32 + threadIdx.x, y = blockIdx.y * 32 + threadIdx.y;                 \
        s[threadIdx.y][threadIdx.x] = in[y * n + x];                                              \
        __syncthreads();                                                                          \
        x = blockIdx.y * 32 + threadIdx.x;                                                        \
        y = blockIdx.x * 32 + threadIdx.y;                                                        \
        out[y * n + x] = s[threadIdx.x][threadIdx.y];                                             \
    }
TURNED(turned, 32)
TURNED(turned_padded, 33)
KERNEL divided(const int32_t *a, const int32_t *b, int32_t *out, long long *wide, int32_t n)
{
    OWN;
    if (i >= n)
        return;
    out[i] = a[i] / b[i] + a[i] % b[i] * 1000 + min(a[i], b[i]);
    wide[i] = (long long)a[i] * b[i] >> 3;
}
KERNEL racy(const int32_t *in, int32_t *out, int32_t n)
{
    __shared__ int s[128];
    int t = threadIdx.x;
    s[t] = in[t];
    if (t < 64)
        s[t] += s[t + 64]; /* other warps' */
    __syncthreads();
    out[t] = s[t];
}
KERNEL beyond(const int32_t *in, int32_t *out, int32_t n)
{
    OWN;
    out[i] = in[i + 1]; /* one too far */
}
KERNEL strided(const int32_t *in, int32_t *out, int32_t n)
{
    OWN;
    out[i] = in[(i * 8) % n];
}
