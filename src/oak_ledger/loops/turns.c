/* Windows over rows that come in the window's order: one going through them, with a place for each partition. */
#include <math.h>
#include <stdlib.h>

#include "bits.h"

#define BLOCK 1024

static inline int there(const uint8_t *valid, int64_t at) {
    return !valid || bit_at(valid, at);
}

typedef struct { int64_t word, known; } Last;

/* The word of the row before in the same partition (after, where `backward`), and whether there is one; `last` keeps that of each
 * partition for the rows that follow, and is 0 at first. Returns how many rows have none. */
int64_t oak_neighbour(int64_t rows, const int64_t *codes, const int64_t *values, const uint8_t *valid, int64_t offset, int32_t backward,
                      Last *last, int64_t *out, uint8_t *out_valid) {
    uint8_t known[BLOCK];
    int64_t nulls = 0;
    for (int64_t part = 0; part * BLOCK < rows; part++) {
        int64_t blocks = (rows + BLOCK - 1) / BLOCK, begin = (backward ? blocks - 1 - part : part) * BLOCK;
        int64_t n = rows - begin < BLOCK ? rows - begin : BLOCK;
        for (int64_t k = 0; k < n; k++) {
            int64_t i = backward ? n - 1 - k : k, row = begin + i;
            Last *own = last + codes[row];
            out[row] = own->word;
            known[i] = (uint8_t)own->known;
            nulls += !own->known;
            *own = (Last){values[row], there(valid, offset + row)};
        }
        pack(known, n, out_valid + begin / 8, 0);
    }
    return nulls;
}

typedef struct { int64_t sum, count; } Whole;

/* Up to and with each row, the sum of its partition's whole numbers and how many there are; `groups` has one item a partition, all 0.
 * Without values rows are counted. Returns 0 where a sum does not fit into 62 bits. */
int32_t oak_running_wholes(int64_t rows, const int64_t *codes, const int64_t *values, const uint8_t *valid, int64_t offset, Whole *groups,
                           int64_t *sums, int64_t *counts) {
    int64_t most = (int64_t)1 << 62;
    for (int64_t i = 0; i < rows; i++) {
        Whole *own = groups + codes[i];
        if (there(valid, offset + i)) {
            own->count++;
            if (values && (__builtin_add_overflow((long long)own->sum, (long long)values[i], (long long *)&own->sum) || own->sum >= most ||
                           own->sum <= -most))
                return 0;
        }
        if (sums)
            sums[i] = own->sum;
        if (counts)
            counts[i] = own->count;
    }
    return 1;
}

typedef struct { double cut, upper, rest; int64_t count, size; } Float;

/* The same of floats: each is cut in two, so that the sums of the upper parts are exact. `groups` has one item a partition, all 0.
 * Returns 0 where a number is too large for that. */
int32_t oak_running_floats(int64_t rows, const int64_t *codes, const double *values, const uint8_t *valid, int64_t offset, int64_t partitions,
                           Float *groups, double *sums, int64_t *counts) {
    for (int64_t i = 0; i < rows; i++) {
        Float *own = groups + codes[i];
        double size = there(valid, offset + i) ? fabs(values[i]) : 0;
        own->cut = size > own->cut ? size : own->cut;
        own->size++;
    }
    for (int64_t at = 0; at < partitions; at++) {
        Float *own = groups + at;
        if (!(own->cut < 1e280))
            return 0;
        if (own->cut > 0) {
            int exponent, power = 64 - __builtin_clzll((uint64_t)(own->size > 2 ? own->size : 2));
            frexp(own->cut, &exponent);
            own->cut = ldexp(1.5, exponent + power + 1);
        }
    }
    for (int64_t i = 0; i < rows; i++) {
        Float *own = groups + codes[i];
        if (there(valid, offset + i)) {
            double upper = values[i] + own->cut;
            upper -= own->cut;
            own->upper += upper;
            own->rest += values[i] - upper;
            own->count++;
        }
        sums[i] = own->upper + own->rest;
        if (counts)
            counts[i] = own->count;
    }
    return 1;
}
