/* Values by their place: which stand where when each group is in order. */
#include <math.h>

#include "pieces.h"

/* Words group after group, in the order of the rows, without those that are null; also where each group's begin, and how many there are
 * (`counts` must be 0). */
void oak_by_group(const Piece *stretches, int64_t count, int64_t groups, int64_t *starts, int64_t *counts, int64_t *out) {
    uint8_t room[BLOCK];
    int64_t codes[BLOCK];
    for (int32_t again = 0; again < 2; again++) {
        for (const Piece *own = stretches; own < stretches + count; own++)
            for (int64_t begin = 0; begin < own->rows; begin += BLOCK) {
                int64_t n = own->rows - begin < BLOCK ? own->rows - begin : BLOCK;
                const uint8_t *there = present((const uint8_t *)own->valid, own->offset + begin, n, room);
                const int64_t *group = widened((const void *)own->codes, own->of, 1, begin, n, codes), *v = (const int64_t *)own->values + begin;
                if (!again)
                    for (int64_t i = 0; i < n; i++) counts[group[i]] += there ? there[i] : 1;
                else
                    for (int64_t i = 0; i < n; i++)
                        if (!there || there[i]) out[starts[group[i]]++] = v[i];
            }
        int64_t sum = 0;
        for (int64_t at = 0; at < groups; at++) {
            starts[at] = sum; /* after the second time, where it was before */
            sum += counts[at];
        }
    }
}

/* A sample: the words of one row of `every` (which divides BLOCK) that are there, with their groups. Returns how many there are. */
int64_t oak_sample(const Piece *stretches, int64_t count, int64_t every, int64_t *sample, int64_t *of) {
    int64_t size = 0, group;
    for (const Piece *own = stretches; own < stretches + count; own++)
        for (int64_t i = 0; i < own->rows; i += every) {
            sample[size] = ((const int64_t *)own->values)[i];
            of[size] = *widened((const void *)own->codes, own->of, 1, i, 1, &group);
            size += own->valid ? bit_at((const uint8_t *)own->valid, own->offset + i) : 1;
        }
    return size;
}

/* The values of each group from `low` to `high`, both among them, as they come, with the group of each; and of each group how many lie below,
 * between, and above (`places` has four numbers a group, all 0; the last is for those that are null). Returns how many there are between, or -1
 * where they are more than there is `room` for. */
#define BETWEEN(name, type)                                                                                                          \
    int64_t name(const Piece *stretches, int64_t count, const type *restrict low, const type *restrict high, int64_t *places,        \
                 int64_t room, type *taken, int64_t *of) {                                                                           \
        uint8_t known[BLOCK];                                                                                                        \
        int64_t codes[BLOCK];                                                                                                        \
        uint32_t place[BLOCK];                                                                                                       \
        int64_t size = 0;                                                                                                            \
        for (const Piece *own = stretches; own < stretches + count; own++)                                                           \
            for (int64_t begin = 0; begin < own->rows; begin += BLOCK) {                                                             \
                int64_t n = own->rows - begin < BLOCK ? own->rows - begin : BLOCK;                                                   \
                const uint8_t *there = present((const uint8_t *)own->valid, own->offset + begin, n, known);                          \
                const int64_t *group = widened((const void *)own->codes, own->of, 1, begin, n, codes);                               \
                const type *v = (const type *)own->values + begin;                                                                   \
                if (size + n > room)                                                                                                 \
                    return -1;                                                                                                       \
                for (int64_t i = 0; i < n; i++)                                                                                      \
                    place[i] = (uint32_t)group[i] * 4 + (v[i] >= low[group[i]]) + (v[i] > high[group[i]]);                           \
                for (int64_t i = 0; i < n && there; i++) place[i] |= 3 * (uint32_t)(1 - there[i]);                                   \
                for (int64_t i = 0; i < n; i++) places[place[i]]++;                                                                  \
                for (int64_t i = 0; i < n; i++)                                                                                      \
                    if ((place[i] & 3) == 1) {                                                                                       \
                        taken[size] = v[i];                                                                                          \
                        of[size++] = group[i];                                                                                       \
                    }                                                                                                                \
            }                                                                                                                        \
        return size;                                                                                                                 \
    }

BETWEEN(oak_floats_between, double)
BETWEEN(oak_wholes_between, int64_t)

/* The value that stands at `place` when `v` is in order; what lies before is not larger then, what lies after not smaller. */
#define PART_AT(name, type)                                            \
    static type name(type *v, int64_t n, int64_t place) {              \
        int64_t low = 0, high = n - 1;                                 \
        while (high > low) {                                           \
            int64_t middle = low + (high - low) / 2;                   \
            if (high - low > 600) { /* a sample tells well where to cut (Floyd and Rivest, 1975) */ \
                double m = (double)(high - low + 1), i = (double)(place - low + 1), z = log(m);      \
                double s = 0.5 * exp(2 * z / 3), d = 0.5 * sqrt(z * s * (m - s) / m) * (i < m / 2 ? -1 : 1); \
                int64_t a = (int64_t)((double)place - i * s / m + d), b = (int64_t)((double)place + (m - i) * s / m + d); \
                a = a > low ? a : low;                                 \
                b = b < high ? b : high;                               \
                name##_within(v, a, b, place);                         \
                middle = place;                                        \
            }                                                          \
            type pivot = v[middle];                                    \
            int64_t i = low, j = high;                                 \
            while (i <= j) {                                           \
                while (v[i] < pivot) i++;                              \
                while (pivot < v[j]) j--;                              \
                if (i <= j) {                                          \
                    type one = v[i];                                   \
                    v[i++] = v[j];                                     \
                    v[j--] = one;                                      \
                }                                                      \
            }                                                          \
            if (place <= j) high = j;                                  \
            else if (place >= i) low = i;                              \
            else break;                                                \
        }                                                              \
        return v[place];                                               \
    }

#define PARTING(name, type)                                            \
    static type name(type *v, int64_t n, int64_t place);               \
    static void name##_within(type *v, int64_t a, int64_t b, int64_t place) { name(v + a, b - a + 1, place - a); } \
    PART_AT(name, type)

PARTING(part_floats, double)
PARTING(part_wholes, int64_t)

/* For each group: the values that stand at `places` (`each` a group, in order upwards) among its own, which begin at
 * `starts`; 0 where it has none. The values are moved about. */
void oak_standing(void *values, int32_t floats, const int64_t *starts, const int64_t *counts, int64_t groups,
                  const int64_t *places, int32_t each, void *out) {
    for (int64_t group = 0; group < groups; group++) {
        int64_t from = 0, n = counts[group];
        for (int32_t at = 0; at < each; at++) {
            int64_t place = places[group * each + at], to = group * each + at;
            if (!n) {
                if (floats) ((double *)out)[to] = 0;
                else ((int64_t *)out)[to] = 0;
                continue;
            }
            if (floats) {
                double *v = (double *)values + starts[group];
                ((double *)out)[to] = part_floats(v + from, n - from, place - from);
            } else {
                int64_t *v = (int64_t *)values + starts[group];
                ((int64_t *)out)[to] = part_wholes(v + from, n - from, place - from);
            }
            from = place;
        }
    }
}
