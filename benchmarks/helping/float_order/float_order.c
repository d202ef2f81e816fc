float total(const float *levels, int n)
{
    float sum = 0;
    for (int i = 0; i < n; i++)
        sum += levels[i];
    return sum;
}
