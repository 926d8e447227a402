/* What texts are: plain numbers, or few different ones. */
#ifndef OAK_LOOKS_H
#define OAK_LOOKS_H

#include "bits.h"

typedef struct { const uint8_t *data; int64_t size; } Text;

/* The first eight bytes as a number that compares as they do. */
static inline uint64_t beginning(Text one) {
    uint64_t word = 0;
    if (one.size >= 8 || (one.size && readable(one.data, 8))) {
        memcpy(&word, one.data, 8);
        word = __builtin_bswap64(word);
        return one.size >= 8 ? word : word >> (64 - 8 * one.size) << (64 - 8 * one.size);
    }
    for (int64_t i = 0; i < one.size; i++) word |= (uint64_t)one.data[i] << (56 - 8 * i);
    return word;
}

/* -- plain numbers ------------------------------------------------------------------------------------------------------ */

/* Of what kinds they are: by how many characters they have, how many digits behind a mark, whether there is a minus, and whether the mark is a comma. */
#define KINDS 4096
#define KIND(size, after, minus, comma) (((size) - 1) | (after) << 5 | (minus) << 10 | (comma) << 11)

/* Which of 32 bytes are no digits, as bits. */
typedef uint8_t Thirty __attribute__((ext_vector_type(32)));
typedef _Bool ThirtyTruths __attribute__((ext_vector_type(32)));

static inline uint32_t no_digits(Thirty bytes) {
    ThirtyTruths hits = __builtin_convertvector(bytes - (uint8_t)'0' > (uint8_t)9, ThirtyTruths);
    uint32_t made;
    memcpy(&made, &hits, 4);
    return made;
}

/* Whether a text is a plain number of at most 32 characters: digits, maybe a minus before and a dot or a comma between, no zero before other
 * digits, and no more than 18 digits without a mark. If so it is counted. */
static inline int plain_number(Text one, int32_t *kinds) {
    if (one.size < 1 || one.size > 32)
        return 0;
    Thirty bytes = (Thirty)(0);
    if (readable(one.data, 32))
        memcpy(&bytes, one.data, 32);
    else {
        uint8_t some[32] = {0};
        memcpy(some, one.data, (size_t)one.size);
        memcpy(&bytes, some, 32);
    }
    uint32_t size = (uint32_t)one.size, sign = one.data[0] == '-', at = size, after = 0, comma = 0;
    uint32_t marks = no_digits(bytes) & (uint32_t)((1ULL << size) - 1) & ~sign;
    if (marks) {
        at = (uint32_t)__builtin_ctz(marks);
        after = size - 1 - at;
        comma = one.data[at] == ',';
        if ((marks & (marks - 1)) || !(comma | (one.data[at] == '.')) || !after)
            return 0;
    } else if (size - sign > 18)
        return 0;
    if (at <= sign || (at > sign + 1 && one.data[sign] == '0'))
        return 0;
    kinds[KIND(size, after, sign, comma)]++;
    return 1;
}

/* -- different texts, where these are few ------------------------------------------------------------------------------- */

#define MOST 2048              /* so many at most */

/* A number for each in the order in which they come. `begins` and `ends` are their first and last eight bytes; of those of 16 bytes or fewer
 * they and the size say all. */
typedef struct {
    int32_t table[4 * MOST], found;
    uint64_t begins[MOST], ends[MOST];
    Text known[MOST];
} Different;

static inline void none_different(Different *own) {
    memset(own->table, 0xff, sizeof own->table);
    own->found = 0;
}

/* The number of a text, a new one where `*is_new` is set; -1 where there would be more than `most`. */
static inline int32_t number_of(Different *own, Text one, int64_t most, int *is_new) {
    uint64_t begin = beginning(one), end = 0, hash = begin ^ (uint64_t)one.size * 0x9e3779b97f4a7c15ULL;
    if (one.size > 8) {
        memcpy(&end, one.data + one.size - 8, 8);
        for (int64_t at = 8; at < one.size - 8; at += 8) hash = (hash ^ beginning((Text){one.data + at, 8})) * 0xd6e8feb86659fd93ULL;
        hash = (hash ^ end) * 0xd6e8feb86659fd93ULL;
    }
    hash *= 0x9e3779b97f4a7c15ULL;
    *is_new = 0;
    for (uint32_t slot = (uint32_t)(hash >> 51);; slot = (slot + 1) & (4 * MOST - 1)) {
        int32_t code = own->table[slot];
        if (code < 0) {
            if (own->found == most)
                return -1;
            *is_new = 1;
            own->begins[own->found] = begin;
            own->ends[own->found] = end;
            own->known[own->found] = one;
            return own->table[slot] = own->found++;
        }
        Text known = own->known[code];
        if (own->begins[code] == begin && own->ends[code] == end && known.size == one.size &&
            (one.size <= 16 || !memcmp(known.data, one.data, (size_t)one.size)))
            return code;
    }
}

#endif
