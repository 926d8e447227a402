/* Values taken from places and put back at them; Arrow's bitmaps are read and written beside. */
#include <float.h>

#include "bits.h"

#define BLOCK 1024

/* The bits of these rows (numbers of `wide` bytes), in their turn. Returns how many are 0. */
static int64_t gather_bits(int64_t size, const void *rows, int32_t wide, const uint8_t *from, int64_t offset, uint8_t *out) {
    uint8_t there[BLOCK];
    int64_t set = 0;
    for (int64_t begin = 0; begin < size; begin += BLOCK) {
        int64_t n = size - begin < BLOCK ? size - begin : BLOCK;
        for (int64_t i = 0; i < n; i++) {
            there[i] = (uint8_t)bit_at(from, offset + row_at(rows, wide, begin + i));
            set += there[i];
        }
        pack(there, n, out + begin / 8, 0);
    }
    return size - set;
}

/* The values of these rows, of 4 or 8 bytes, or bits (a width of 0, from `offset` on), with the bits that say which are there. Returns how
 * many are null. */
int64_t oak_gather(int64_t size, const void *rows, int32_t wide, const void *values, int32_t width, const uint8_t *valid, int64_t offset,
                   void *out, uint8_t *out_valid) {
#define TAKE(at, type) for (int64_t i = 0; i < size; i++) ((type *)out)[i] = ((const type *)values)[((const at *)rows)[i]]
    if (!width) {
        gather_bits(size, rows, wide, values, offset, out);
    } else if (wide == 4) {
        if (width == 4) TAKE(int32_t, int32_t);
        else TAKE(int32_t, int64_t);
    } else {
        if (width == 4) TAKE(int64_t, int32_t);
        else TAKE(int64_t, int64_t);
    }
    return valid ? gather_bits(size, rows, wide, valid, offset, out_valid) : 0;
}

/* The numbers of the rows where a bit is set, and where `valid` says that it counts. Returns how many; `out` has room for all rows. */
int64_t oak_holding(int64_t size, const uint8_t *set, const uint8_t *valid, int64_t offset, int64_t *out) {
    uint8_t there[BLOCK], known[BLOCK];
    int64_t count = 0;
    for (int64_t begin = 0; begin < size; begin += BLOCK) {
        int64_t n = size - begin < BLOCK ? size - begin : BLOCK;
        unpack(set, offset + begin, n, there);
        if (valid) {
            unpack(valid, offset + begin, n, known);
            for (int64_t i = 0; i < n; i++) there[i] &= known[i];
        }
        for (int64_t i = 0; i < n; i++) {
            out[count] = begin + i;
            count += there[i];
        }
    }
    return count;
}

/* Two codes as one: the first times how many the second may be, and the second. */
void oak_cross(int64_t size, const int32_t *first, int64_t times, const int32_t *second, int32_t *out) {
    for (int64_t i = 0; i < size; i++) out[i] = first[i] * (int32_t)times + second[i];
}

/* How far each whole number (of 4 or 8 bytes) lies above the least, and in `ends` the least and the largest; of those that are there. Returns 0
 * where they lie too far apart. What null holds may be anything. */
int32_t oak_near(int64_t size, const void *numbers, int32_t width, const uint8_t *valid, int64_t offset, int32_t *out, int64_t *ends) {
    uint8_t there[BLOCK];
    int64_t least = INT64_MAX, most = INT64_MIN;
#define ENDS(type)                                                     \
    for (int64_t begin = 0; begin < size; begin += BLOCK) {            \
        int64_t n = size - begin < BLOCK ? size - begin : BLOCK;       \
        const type *v = (const type *)numbers + begin;                 \
        type low = v[0], high = v[0];                                  \
        if (valid) {                                                   \
            unpack(valid, offset + begin, n, there);                   \
            for (int64_t i = 0; i < n; i++) {                          \
                least = there[i] && v[i] < least ? v[i] : least;       \
                most = there[i] && v[i] > most ? v[i] : most;          \
            }                                                          \
            continue;                                                  \
        }                                                              \
        for (int64_t i = 0; i < n; i++) {                              \
            low = v[i] < low ? v[i] : low;                             \
            high = v[i] > high ? v[i] : high;                          \
        }                                                              \
        least = low < least ? low : least;                             \
        most = high > most ? high : most;                              \
    }
    if (width == 4) ENDS(int32_t) else ENDS(int64_t)
    if (least > most)
        least = most = 0;
    ends[0] = least;
    ends[1] = most;
    if ((uint64_t)most - (uint64_t)least >= INT32_MAX)
        return 0;
    if (width == 4)
        for (int64_t i = 0; i < size; i++) out[i] = (int32_t)((uint32_t)((const int32_t *)numbers)[i] - (uint32_t)least);
    else
        for (int64_t i = 0; i < size; i++) out[i] = (int32_t)((uint64_t)((const int64_t *)numbers)[i] - (uint64_t)least);
    return 1;
}

/* Whether no number is infinite or none at all. */
int32_t oak_finite(int64_t size, const double *numbers) {
    int64_t lost = 0;
    for (int64_t i = 0; i < size; i++) lost |= -(int64_t)!(__builtin_fabs(numbers[i]) <= DBL_MAX);
    return !lost;
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
