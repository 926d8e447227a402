/* Texts as they lie in Arrow's memory: where each begins, and their bytes one after the other. */
#include "bits.h"

typedef struct { const uint8_t *data; int64_t size; } Text;

static inline Text text_at(const int32_t *edges, const uint8_t *data, int64_t at) {
    return (Text){data + edges[at], edges[at + 1] - edges[at]};
}

/* Whether each text holds the part (of one byte or more), as bits. The bytes of all texts are searched in one go. */
void oak_contains(int64_t rows, const int32_t *edges, const uint8_t *data, const uint8_t *part, int64_t size, uint8_t *out) {
    memset(out, 0, (size_t)((rows + 7) / 8));
    if (!rows)
        return;
    const uint8_t *at = data + edges[0], *end = data + edges[rows];
    uint8_t first = part[0], last = part[size - 1];
    int64_t row = 0;
    while (end - at >= size) {
        /* sixteen places at a time: where both the first and the last byte of the part stand */
        uint64_t found = 0;
        int64_t step = end - at - size + 1;
        if (step >= 16) {
            uint8_t hit[16];
            for (int i = 0; i < 16; i++) hit[i] = (at[i] == first) & (at[i + size - 1] == last);
            uint64_t low, high;
            memcpy(&low, hit, 8);
            memcpy(&high, hit + 8, 8);
            step = 16;
            if (!(low | high)) {
                at += 16;
                continue;
            }
            found = (uint64_t)packed(low) | (uint64_t)packed(high) << 8;
        } else {
            for (int64_t i = 0; i < step; i++) found |= (uint64_t)((at[i] == first) & (at[i + size - 1] == last)) << i;
        }
        for (; found; found &= found - 1) {
            const uint8_t *here = at + __builtin_ctzll(found);
            if (size > 2 && memcmp(here, part, (size_t)size))
                continue;
            int64_t byte = here - data;
            while (edges[row + 1] <= byte) row++;
            if (byte + size <= edges[row + 1])
                out[row >> 3] |= (uint8_t)(1 << (row & 7));
        }
        at += step;
    }
}

/* The first eight bytes as a number that compares as they do. */
static inline uint64_t beginning(Text one) {
    uint64_t word = 0;
    if (one.size >= 8) {
        memcpy(&word, one.data, 8);
        return __builtin_bswap64(word);
    }
    for (int64_t i = 0; i < one.size; i++) word |= (uint64_t)one.data[i] << (56 - 8 * i);
    return word;
}

static int compared(Text a, Text b) {
    int64_t shared = a.size < b.size ? a.size : b.size;
    int sign = memcmp(a.data, b.data, (size_t)shared);
    return sign ? sign : (a.size > b.size) - (a.size < b.size);
}

/* For each group the row of its largest (or smallest) text; `best` must hold -1, and keeps it where a group has none. `begins` is room
 * for a word a group. */
void oak_best_text(int64_t rows, const int64_t *codes, const int32_t *edges, const uint8_t *data, const uint8_t *valid, int64_t offset,
                   int32_t largest, int64_t *best, uint64_t *begins) {
    for (int64_t i = 0; i < rows; i++) {
        if (valid && !bit_at(valid, offset + i))
            continue;
        int64_t group = codes[i], now = best[group];
        Text one = text_at(edges, data, i);
        uint64_t begin = beginning(one);
        if (now >= 0) {
            if (largest ? begin < begins[group] : begin > begins[group])
                continue;
            if (begin == begins[group]) {
                int sign = compared(one, text_at(edges, data, now));
                if (largest ? sign <= 0 : sign >= 0)
                    continue;
            }
        }
        best[group] = i;
        begins[group] = begin;
    }
}
