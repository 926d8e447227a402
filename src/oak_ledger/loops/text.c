/* Texts as they lie in Arrow's memory: where each begins, and their bytes one after the other. */
#include "looks.h"

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

/* -- what a column of texts holds ----------------------------------------------------------------------------------------- */

/* Whether all texts that are there are plain numbers; `kinds` must be 0 before. */
int32_t oak_plain_numbers(int64_t rows, const int32_t *edges, const uint8_t *data, const uint8_t *valid, int64_t offset, int32_t *kinds) {
    for (int64_t i = 0; i < rows; i++)
        if (!(valid && !bit_at(valid, offset + i)) && !plain_number(text_at(edges, data, i), kinds))
            return 0;
    return 1;
}

/* A number for each different text in the order in which they come (-1 for null), how often each comes, and the first row that has it.
 * Returns how many there are; -1 where more than `most`. */
int64_t oak_few_texts(int64_t rows, const int32_t *edges, const uint8_t *data, const uint8_t *valid, int64_t offset, int64_t most, int32_t *codes,
                      int64_t *counts, int64_t *first) {
    Different known;
    none_different(&known);
    for (int64_t i = 0; i < rows; i++) {
        if (valid && !bit_at(valid, offset + i)) {
            codes[i] = -1;
            continue;
        }
        int is_new;
        int32_t code = codes[i] = number_of(&known, text_at(edges, data, i), most, &is_new);
        if (code < 0)
            return -1;
        if (is_new) {
            counts[code] = 0;
            first[code] = i;
        }
        counts[code]++;
    }
    return known.found;
}

/* -- texts taken from places ----------------------------------------------------------------------------------------- */

/* Where each text begins and will end that is taken from one of the rows, and which are there (as bits). One is null where its row is not
 * `given`, or the text is not `valid`. Returns how many bytes they have, or -1 where that is more than edges can tell; `nulls` tells how many
 * are null. */
int64_t oak_take_edges(int64_t count, const void *rows, int32_t width, const uint8_t *given, int64_t given_from, const int32_t *edges,
                       const uint8_t *valid, int64_t offset, int32_t *begins, int32_t *ends, uint8_t *known, int64_t *nulls) {
    int64_t sum = 0, missing = 0;
    uint8_t there[1024];
    for (int64_t begin = 0; begin < count; begin += 1024) {
        int64_t n = count - begin < 1024 ? count - begin : 1024;
        if (given) unpack(given, given_from + begin, n, there);
        else memset(there, 1, (size_t)n);
        for (int64_t i = 0; i < n; i++) {
            int64_t row = there[i] ? row_at(rows, width, begin + i) : 0;
            if (there[i] && valid && !bit_at(valid, offset + row))
                there[i] = 0;
            begins[begin + i] = edges[row];
            ends[begin + i] = (int32_t)sum;
            sum += there[i] ? edges[row + 1] - edges[row] : 0;
            missing += !there[i];
        }
        if (sum > INT32_MAX)
            return -1;
        pack(there, n, known + begin / 8, 0);
    }
    ends[count] = (int32_t)sum;
    *nulls = missing;
    return sum;
}

/* Where each text begins and will end without the bytes that are `struck` (one flag for each that there may be) at its beginning, or end. */
int64_t oak_trim_edges(int64_t rows, const int32_t *edges, const uint8_t *data, const uint8_t *struck, int32_t first, int32_t last,
                       int32_t *begins, int32_t *ends) {
    int32_t sum = 0;
    for (int64_t i = 0; i < rows; i++) {
        int32_t from = edges[i], to = edges[i + 1];
        while (first && from < to && struck[data[from]]) from++;
        while (last && from < to && struck[data[to - 1]]) to--;
        begins[i] = from;
        ends[i] = sum;
        sum += to - from;
    }
    ends[rows] = sum;
    return sum;
}

/* The same of a part, by bytes: from one place to another, each counted from the beginning, or below zero from the end. */
int64_t oak_part_edges(int64_t rows, const int32_t *edges, int64_t from, int64_t to, int32_t *begins, int32_t *ends) {
    int32_t sum = 0;
    for (int64_t i = 0; i < rows; i++) {
        int64_t size = edges[i + 1] - edges[i], a = from < 0 ? from + size : from, b = to < 0 ? to + size : to;
        a = a < 0 ? 0 : a > size ? size : a;
        b = b < a ? a : b > size ? size : b;
        begins[i] = edges[i] + (int32_t)a;
        ends[i] = sum;
        sum += (int32_t)(b - a);
    }
    ends[rows] = sum;
    return sum;
}

/* The bytes of texts that begin so. `out` has room for sixteen more than it gets: short ones are copied sixteen bytes at a time. */
void oak_copy_texts(int64_t count, const int32_t *begins, const int32_t *ends, const uint8_t *data, uint8_t *out) {
    for (int64_t i = 0; i < count; i++) {
        int64_t size = ends[i + 1] - ends[i];
        const uint8_t *from = data + begins[i];
        uint8_t *to = out + ends[i];
        if (size <= 16 && readable(from, 16)) memcpy(to, from, 16);
        else memcpy(to, from, (size_t)size);
    }
}
