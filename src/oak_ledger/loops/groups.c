/* Rows by group: numbering groups, sums that do not depend on how rows are sliced, different values. */
#include <math.h>
#include <stdlib.h>

#include "pieces.h"

#define LEAST_TABLE 1024

static inline uint64_t mixed(uint64_t x) {
    x ^= x >> 32;
    x *= 0xd6e8feb86659fd93ULL;
    x ^= x >> 29;
    return x;
}

/* -- numbering ------------------------------------------------------------------------------------------------------ */

typedef struct { int64_t values, width, size; } Key;

/* The combination of the keys' codes of each row from `begin` on, up to BLOCK of them, as one number. */
static void combine(int64_t begin, int64_t n, const Key *keys, int32_t count, int64_t *out) {
    for (int32_t at = 0; at < count; at++) {
        int64_t times = at ? keys[at].size : 0;
        const void *from = (const void *)keys[at].values;
#define ADD(type)                                                      \
    for (int64_t i = 0; i < n; i++) out[i] = (at ? out[i] * times : 0) + ((const type *)from)[begin + i]
        switch (keys[at].width) {
        case 1: ADD(int8_t); break;
        case 2: ADD(int16_t); break;
        case 4: ADD(int32_t); break;
        default: ADD(int64_t);
        }
    }
}

/* The group of each row, counted from 0, where rows that are not `alive` get the number after the last; `found` gets the combination
 * of each group. Few combinations (`size`) have a place each, and groups go by them; many are hashed, and go as they come.
 * Returns how many groups there are, or -1 where there is no memory. */
int64_t oak_number(int64_t rows, const Key *keys, int32_t count, int64_t size, int32_t placed, const uint8_t *alive, int64_t *local,
                   int64_t *found) {
    if (placed) {
        int32_t *place = calloc((size_t)size + 1, sizeof(int32_t));
        if (!place)
            return -1;
        int64_t groups = 0, met = 0; /* the first so many combinations were all met */
        for (int64_t begin = 0; begin < rows; begin += BLOCK) {
            int64_t n = rows - begin < BLOCK ? rows - begin : BLOCK, *own = local + begin;
            combine(begin, n, keys, count, own);
            if (alive)
                for (int64_t i = 0; i < n; i++) own[i] = alive[begin + i] ? own[i] : size;
            if (met < size)
                for (int64_t i = 0; i < n; i++) place[own[i]] = 1;
            while (met < size && place[met]) met++;
        }
        for (int64_t at = 0; at < size; at++)
            if (place[at]) {
                found[groups] = at;
                place[at] = (int32_t)groups++;
            }
        place[size] = (int32_t)groups;
        if (groups < size) /* else each is its own number */
            for (int64_t i = 0; i < rows; i++) local[i] = place[local[i]];
        free(place);
        return groups;
    }
    for (int64_t begin = 0; begin < rows; begin += BLOCK)
        combine(begin, rows - begin < BLOCK ? rows - begin : BLOCK, keys, count, local + begin);
    uint64_t room = LEAST_TABLE;
    while (room < (uint64_t)rows * 2)
        room *= 2;
    int32_t *place = malloc(room * sizeof(int32_t));
    if (!place)
        return -1;
    memset(place, 0xff, room * sizeof(int32_t));
    int32_t groups = 0;
    for (int64_t i = 0; i < rows; i++) {
        if (alive && !alive[i]) {
            local[i] = -1;
            continue;
        }
        uint64_t at = mixed((uint64_t)local[i]) & (room - 1);
        while (place[at] >= 0 && found[place[at]] != local[i])
            at = (at + 1) & (room - 1);
        if (place[at] < 0) {
            found[groups] = local[i];
            place[at] = groups++;
        }
        local[i] = place[at];
    }
    if (alive)
        for (int64_t i = 0; i < rows; i++) local[i] = local[i] < 0 ? groups : local[i];
    free(place);
    return groups;
}

/* -- sums ----------------------------------------------------------------------------------------------------------- */

/* What is added up of a group; together, so that they lie in one line of a fast memory, and of floats in one register. */
typedef double Floats __attribute__((vector_size(32))); /* sum, rest, count */
typedef struct { int64_t low, high, count; } Wholes;

static inline void add(double *to, double sum, double rest, double count) {
    Floats now;
    memcpy(&now, to, sizeof now);
    now += (Floats){sum, rest, count, 0};
    memcpy(to, &now, sizeof now);
}

/* The total of floats, several at a time. */
static double total(const double *values, int64_t size) {
    double lanes[8] = {0}, made = 0;
    int64_t i = 0;
    for (; i + 8 <= size; i += 8)
        for (int k = 0; k < 8; k++) lanes[k] += values[i + k];
    for (int k = 0; k < 8; k++) made += lanes[k];
    for (; i < size; i++) made += values[i];
    return made;
}

/* The same as below for rows that are all of one group: no row need wait for the one before. */
static void add_all(const double *values, const uint8_t *there, int64_t rows, double cut, double *group) {
    double upper[BLOCK], rest[BLOCK];
    int64_t count = rows;
    if (there) {
        count = 0;
        for (int64_t i = 0; i < rows; i++) {
            upper[i] = there[i] ? values[i] : 0;
            count += there[i];
        }
        values = upper;
    }
    for (int64_t i = 0; i < rows; i++) {
        double one = values[i], above = one + cut;
        above -= cut;
        rest[i] = one - above;
        upper[i] = above;
    }
    add(group, total(upper, rows), total(rest, rows), (double)count);
}

/* Sums of floats as (sum, rest), each number cut in two so that the sums of the upper parts are exact; and how many there are.
 * The cut is `power` binary places above the largest, which is found first. `groups` has four numbers a group, all 0.
 * Returns 0 where it cannot be found so. */
int32_t oak_sum_floats(int64_t rows, const int64_t *codes, const double *values, const uint8_t *valid, int64_t offset, int32_t power,
                       int64_t count, double *groups) {
    uint8_t room[BLOCK];
    int64_t most = 0; /* floats without a sign are in the order of their bits */
    for (int64_t begin = 0; begin < rows; begin += BLOCK) {
        int64_t n = rows - begin < BLOCK ? rows - begin : BLOCK;
        const uint8_t *there = present(valid, offset + begin, n, room);
        const int64_t *v = (const int64_t *)values + begin;
        if (there)
            for (int64_t i = 0; i < n; i++) {
                int64_t size = v[i] & INT64_MAX & -(int64_t)there[i];
                most = size > most ? size : most;
            }
        else
            for (int64_t i = 0; i < n; i++) {
                int64_t size = v[i] & INT64_MAX;
                most = size > most ? size : most;
            }
    }
    double peak;
    memcpy(&peak, &most, 8);
    if (!(peak > 0 && peak < 1e280))
        return 0;
    int exponent;
    frexp(peak, &exponent);
    double cut = ldexp(1.5, exponent + power);
    for (int64_t begin = 0; begin < rows; begin += BLOCK) {
        int64_t n = rows - begin < BLOCK ? rows - begin : BLOCK;
        const uint8_t *there = present(valid, offset + begin, n, room);
        const double *v = values + begin;
        const int64_t *group = codes + begin;
        if (count == 1)
            add_all(v, there, n, cut, groups);
        else if (there)
            for (int64_t i = 0; i < n; i++) {
                double one = there[i] ? v[i] : 0, upper = one + cut;
                upper -= cut;
                add(groups + 4 * group[i], upper, one - upper, there[i]);
            }
        else
            for (int64_t i = 0; i < n; i++) {
                double upper = v[i] + cut;
                upper -= cut;
                add(groups + 4 * group[i], upper, v[i] - upper, 1);
            }
    }
    return 1;
}

/* Sums of whole numbers as (low, high), low + high * 2^32, and how many there are. With a step of 2 the numbers are decimals' pairs;
 * returns 0 where one of these does not fit into 64 bits, and 1 else. */
int32_t oak_sum_wholes(int64_t rows, const int64_t *codes, const int64_t *values, int32_t step, const uint8_t *valid, int64_t offset,
                       int64_t count, Wholes *groups) {
    uint8_t room[BLOCK];
    for (int64_t begin = 0; begin < rows; begin += BLOCK) {
        int64_t n = rows - begin < BLOCK ? rows - begin : BLOCK;
        const uint8_t *there = present(valid, offset + begin, n, room);
        const int64_t *v = values + begin * step, *group = codes + begin;
        if (count == 1 && step == 1) { /* all rows are of one group */
            int64_t low = 0, high = 0, some = 0;
            for (int64_t i = 0; i < n; i++) {
                int64_t is = there ? there[i] : 1, one = v[i] & -is;
                low += (int64_t)(uint32_t)one;
                high += one >> 32;
                some += is;
            }
            groups->low += low, groups->high += high, groups->count += some;
            continue;
        }
        for (int64_t i = 0; i < n; i++) {
            if (there && !there[i])
                continue;
            int64_t one = v[i * step];
            if (step == 2 && v[2 * i + 1] != one >> 63)
                return 0;
            Wholes *into = groups + group[i];
            into->low += (int64_t)(uint32_t)one;
            into->high += one >> 32;
            into->count++;
        }
    }
    return 1;
}

/* The largest (or smallest) of some whole numbers and of one more: no row need wait for the one before. */
static int64_t best_of(const int64_t *values, const uint8_t *there, int64_t n, int32_t largest, int64_t best) {
    int64_t flip = largest ? 0 : -1; /* the smallest is the largest, turned round */
    best ^= flip;
    for (int64_t i = 0; i < n; i++) {
        int64_t one = values[i] ^ flip;
        one = !there || there[i] ? one : best;
        best = one > best ? one : best;
    }
    return best ^ flip;
}

/* The largest (or smallest) word of each group, and how many there are; `together` are these of rows that are all of one group. */
#define BEST(name, type, together)                                                                                                  \
    void name(int64_t rows, const int64_t *codes, const type *values, const uint8_t *valid, int64_t offset, int32_t largest,        \
              int64_t groups, type *best, int64_t *counts) {                                                                        \
        uint8_t room[BLOCK];                                                                                                        \
        for (int64_t begin = 0; begin < rows; begin += BLOCK) {                                                                     \
            int64_t n = rows - begin < BLOCK ? rows - begin : BLOCK;                                                                \
            const uint8_t *there = present(valid, offset + begin, n, room);                                                         \
            if (groups == 1 && counts[0] && together(best, values + begin, there, n, largest)) {                                    \
                for (int64_t i = 0; i < n; i++) counts[0] += there ? there[i] : 1;                                                  \
                continue;                                                                                                           \
            }                                                                                                                       \
            for (int64_t i = 0; i < n; i++) {                                                                                       \
                if (there && !there[i])                                                                                             \
                    continue;                                                                                                       \
                int64_t group = codes[begin + i];                                                                                   \
                type one = values[begin + i];                                                                                       \
                if (!counts[group]++ || (largest ? one > best[group] : one < best[group]))                                          \
                    best[group] = one;                                                                                              \
            }                                                                                                                       \
        }                                                                                                                           \
    }

#define WHOLES(best, values, there, n, largest) (*(best) = best_of(values, there, n, largest, *(best)), 1)
#define NOT_SO(best, values, there, n, largest) 0
BEST(oak_best_float, double, NOT_SO)
BEST(oak_best_whole, int64_t, WHOLES)

/* -- different values ------------------------------------------------------------------------------------------------ */

/* Mark each pair of a group and a number: `seen` has `span` bytes a group. Rows of no group have a code from `groups` on. */
void oak_mark(int64_t rows, const int64_t *codes, int64_t groups, const void *numbers, int32_t width, int64_t span, uint8_t *seen) {
#define MARK(type)                                                     \
    for (int64_t i = 0; i < rows; i++)                                 \
        if (codes[i] < groups) seen[codes[i] * span + ((const type *)numbers)[i]] = 1
    switch (width) {
    case 1: MARK(int8_t); break;
    case 2: MARK(int16_t); break;
    case 4: MARK(int32_t); break;
    default: MARK(int64_t);
    }
}

#define PIECES 1024

/* Values sorted out by their hash into pieces that stay in a fast memory; where each value lies. */
static inline int64_t piece_of(int64_t value) {
    return (int64_t)(((uint64_t)value * 0xd6e8feb86659fd93ULL) >> 54);
}

/* Pairs of a group (in `of` bytes) and a word, piece after piece; without those that are null, or of no group (from `groups` on). Words are half as
 * wide where all of them fit (`halved`). Returns how many, or -1 where there is no memory. `out_values` and `out_codes` have room for all rows. */
int64_t oak_sort_out(int64_t rows, const int64_t *codes, int64_t groups, const int64_t *values, const uint8_t *valid, int64_t offset,
                     int64_t *out_values, void *out_codes, int32_t of, int32_t *halved) {
    uint16_t *pieces = malloc((size_t)(rows > 0 ? rows : 1) * sizeof(uint16_t)); /* PIECES: left out */
    int64_t count[PIECES + 2] = {0}, next[PIECES + 1];
    int wide = 0;
    if (!pieces)
        return -1;
    for (int64_t i = 0; i < rows; i++) {
        int out = codes[i] >= groups || (valid && !bit_at(valid, offset + i));
        pieces[i] = (uint16_t)(out ? PIECES : piece_of(values[i]));
        wide |= out ? 0 : values[i] != (int32_t)values[i];
        count[pieces[i] + 1]++;
    }
    for (int64_t at = 0; at <= PIECES; at++) next[at] = count[at] += at ? count[at - 1] : 0;
    *halved = !wide;
#define SORT(word, group)                                              \
    for (int64_t i = 0; i < rows; i++) {                               \
        int64_t to = next[pieces[i]]++;                                \
        ((word *)out_values)[to] = (word)values[i];                    \
        ((group *)out_codes)[to] = (group)codes[i];                    \
    }
    if (wide) {
        if (of == 1) SORT(int64_t, uint8_t) else if (of == 2) SORT(int64_t, uint16_t) else SORT(int64_t, uint32_t)
    } else {
        if (of == 1) SORT(int32_t, uint8_t) else if (of == 2) SORT(int32_t, uint16_t) else SORT(int32_t, uint32_t)
    }
    free(pieces);
    return count[PIECES];
}

static inline int64_t word_at(const Piece *own, int64_t at) {
    return own->each == 4 ? ((const int32_t *)own->values)[at] : ((const int64_t *)own->values)[at];
}

/* The first row whose value lies in this piece or a later one, of values that are sorted out. */
static int64_t first_of(const Piece *own, int64_t piece) {
    int64_t low = 0, high = own->rows;
    while (low < high) {
        int64_t middle = low + (high - low) / 2;
        if (piece_of(word_at(own, middle)) < piece)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

/* Where each piece from `first` up to `last` begins, and where the one before `last` ends, of values that are sorted out; 0 where those between are
 * not. All parts together look at all values. */
static int begins_of(const Piece *own, int64_t first, int64_t last, int64_t *begin) {
    int64_t from = first_of(own, first), to = first_of(own, last), at = first, piece = first, room[BLOCK];
    for (int64_t some = from; some < to; some += BLOCK) {
        int64_t n = to - some < BLOCK ? to - some : BLOCK;
        const int64_t *v = widened((const void *)own->values, own->each, 0, some, n, room);
        for (int64_t i = 0; i < n; i++) {
            int64_t here = piece_of(v[i]);
            if (here < piece || here >= last)
                return 0;
            piece = here;
            while (at <= piece) begin[at++] = some + i;
        }
    }
    while (at <= last) begin[at++] = to;
    return !own->valid;
}

typedef struct { int64_t value, group; } Pair; /* the group is one more than it is; 0: nothing there */

/* How many different values each group has, of one part of the pieces (of `parts`): so several threads share the work. `counts` must be 0.
 * Returns 0, 1 where values are not sorted out, 2 where there is no memory. */
int32_t oak_different(const Piece *stretches, int64_t count, int32_t part, int32_t parts, int64_t *counts) {
    int64_t *begin = malloc((size_t)(count > 0 ? count : 1) * (PIECES + 1) * 8), most = 0;
    int64_t first = (int64_t)PIECES * part / parts, last = (int64_t)PIECES * (part + 1) / parts;
    int64_t words[BLOCK], groups[BLOCK];
    int32_t told = begin ? 0 : 2;
    for (int64_t at = 0; !told && at < count; at++)
        if (!begins_of(stretches + at, first, last, begin + at * (PIECES + 1)))
            told = 1;
    for (int64_t piece = first; !told && piece < last; piece++) {
        int64_t rows = 0;
        for (int64_t at = 0; at < count; at++)
            rows += begin[at * (PIECES + 1) + piece + 1] - begin[at * (PIECES + 1) + piece];
        most = rows > most ? rows : most;
    }
    uint64_t room = LEAST_TABLE;
    while (room < (uint64_t)most * 2)
        room *= 2;
    Pair *table = told ? 0 : malloc(room * sizeof(Pair));
    if (!told && !table)
        told = 2;
    for (int64_t piece = first; !told && piece < last; piece++) {
        memset(table, 0, room * sizeof(Pair));
        for (int64_t at = 0; at < count; at++) {
            const Piece *from = stretches + at;
            const int64_t *own = begin + at * (PIECES + 1) + piece;
            for (int64_t some = own[0], n; some < own[1]; some += n) {
              n = own[1] - some < BLOCK ? own[1] - some : BLOCK;
              const int64_t *v = widened((const void *)from->values, from->each, 0, some, n, words);
              const int64_t *c = widened((const void *)from->codes, from->of, 1, some, n, groups);
              for (int64_t i = 0; i < n; i++) {
                uint64_t hash = ((uint64_t)v[i] ^ (uint64_t)c[i] * 0x9e3779b97f4a7c15ULL) * 0xd6e8feb86659fd93ULL;
                uint64_t slot = (hash >> 16) & (room - 1);
                while (table[slot].group && (table[slot].value != v[i] || table[slot].group != c[i] + 1))
                    slot = (slot + 1) & (room - 1);
                if (!table[slot].group) {
                    table[slot] = (Pair){v[i], c[i] + 1};
                    counts[c[i]]++;
                }
              }
            }
        }
    }
    free(begin);
    free(table);
    return told;
}
