/* Values taken from places and put back at them; Arrow's bitmaps are read and written beside. */
#include "bits.h"

#define BLOCK 1024

/* The values of these rows, of 4 or 8 bytes, with the bits that say which are there. Returns how many are null. */
int64_t oak_gather(int64_t size, const int64_t *rows, const void *values, int32_t width, const uint8_t *valid, int64_t offset, void *out,
                   uint8_t *out_valid) {
    if (width == 4)
        for (int64_t i = 0; i < size; i++) ((int32_t *)out)[i] = ((const int32_t *)values)[rows[i]];
    else
        for (int64_t i = 0; i < size; i++) ((int64_t *)out)[i] = ((const int64_t *)values)[rows[i]];
    if (!valid)
        return 0;
    uint8_t there[BLOCK];
    int64_t known = 0;
    for (int64_t begin = 0; begin < size; begin += BLOCK) {
        int64_t n = size - begin < BLOCK ? size - begin : BLOCK;
        for (int64_t i = 0; i < n; i++) {
            there[i] = (uint8_t)bit_at(valid, offset + rows[begin + i]);
            known += there[i];
        }
        pack(there, n, out_valid + begin / 8, 0);
    }
    return size - known;
}

/* Words put at these rows, and a byte for each that says whether it is null. */
void oak_scatter(int64_t size, const int64_t *rows, const int64_t *values, const uint8_t *valid, int64_t offset, int64_t *out,
                 uint8_t *nulls) {
    for (int64_t i = 0; i < size; i++) out[rows[i]] = values[i];
    if (valid)
        for (int64_t i = 0; i < size; i++) nulls[rows[i]] = (uint8_t)!bit_at(valid, offset + i);
    else
        for (int64_t i = 0; i < size; i++) nulls[rows[i]] = 0;
}

/* 2 where each number is larger than the one before, 1 where none is less, else 0. */
int32_t oak_rising(int64_t size, const int64_t *numbers) {
    int stays = 0;
    for (int64_t begin = 1; begin < size; begin += BLOCK) {
        int64_t end = begin + BLOCK < size ? begin + BLOCK : size;
        int falls = 0;
        for (int64_t i = begin; i < end; i++) {
            falls |= numbers[i] < numbers[i - 1];
            stays |= numbers[i] == numbers[i - 1];
        }
        if (falls)
            return 0;
    }
    return stays ? 1 : 2;
}
