/* Delimited text cut into rows and values. Whatever is not plain is left to a reader that knows more: nothing is guessed here. */
#include <stdlib.h>

#include "bits.h"

/* A value: where it begins, how long it is, and whether it stands in quotes and holds quotes itself. */
typedef struct { uint32_t begin, size : 30, quoted : 1, doubled : 1; } Value;

/* How often a byte occurs. */
int64_t oak_count_byte(const uint8_t *data, int64_t size, int32_t byte) {
    int64_t count = 0;
    for (int64_t begin = 0; begin < size; begin += 128) {
        uint8_t some = 0;
        int64_t end = begin + 128 < size ? begin + 128 : size;
        for (int64_t i = begin; i < end; i++) some += data[i] == (uint8_t)byte;
        count += some;
    }
    return count;
}

/* Where the last line ends that ends in no quotes, counted from the beginning; 0 where none does. `odd` says whether the bytes end in
 * quotes (`quote` is -1 where there are none). */
int64_t oak_last_line(const uint8_t *data, int64_t size, int32_t quote, int32_t odd) {
    for (int64_t i = size - 1; i >= 0; i--) {
        if (data[i] == '\n' && !odd)
            return i + 1;
        odd ^= quote >= 0 && data[i] == (uint8_t)quote;
    }
    return 0;
}

/* Whether the bytes are UTF-8: no overlong forms, no halves of pairs, nothing above U+10FFFF. */
static int is_utf8(const uint8_t *data, int64_t size) {
    int64_t i = 0;
    while (i < size) {
        uint64_t eight;
        if (i + 8 <= size && (memcpy(&eight, data + i, 8), !(eight & 0x8080808080808080ULL))) {
            i += 8;
            continue;
        }
        uint8_t first = data[i];
        if (first < 0x80) {
            i++;
            continue;
        }
        int more = first >= 0xc2 && first <= 0xdf ? 1 : (first & 0xf0) == 0xe0 ? 2 : first >= 0xf0 && first <= 0xf4 ? 3 : 0;
        if (!more || i + more >= size)
            return 0;
        uint8_t second = data[i + 1];
        if ((first == 0xe0 && second < 0xa0) || (first == 0xed && second > 0x9f) || (first == 0xf0 && second < 0x90) || (first == 0xf4 && second > 0x8f))
            return 0;
        for (int at = 1; at <= more; at++)
            if ((data[i + at] & 0xc0) != 0x80)
                return 0;
        i += more + 1;
    }
    return 1;
}

/* Where a byte stands among 64, as bits. */
typedef uint8_t Bytes __attribute__((ext_vector_type(64)));
typedef _Bool Truths __attribute__((ext_vector_type(64)));

static inline uint64_t where(Bytes bytes, uint8_t one) {
    Truths hits = __builtin_convertvector(bytes == one, Truths);
    uint64_t made;
    memcpy(&made, &hits, 8);
    return made;
}

/* For each bit whether the bits up to it are odd in number. */
static inline uint64_t odd_so_far(uint64_t bits) {
    for (int by = 1; by < 64; by *= 2) bits ^= bits << by;
    return bits;
}

/* A value from its place in the text, with so many quotes in it; 0 where a quote stands where none is due. */
static inline int taken(const uint8_t *data, int64_t begin, int64_t end, int64_t quotes, uint8_t quote, Value *one, int64_t *size) {
    one->quoted = one->doubled = 0;
    if (quotes) {
        if (data[begin] != quote || end - begin < 2 || data[end - 1] != quote)
            return 0;
        begin++;
        end--;
        one->quoted = 1;
        if (quotes > 2) {
            one->doubled = 1;
            for (int64_t i = begin; i < end; i++)
                if (data[i] == quote && (++i == end || data[i] != quote))
                    return 0;
        }
    }
    one->begin = (uint32_t)begin;
    one->size = (uint32_t)(end - begin) & 0x3fffffff;
    *size += end - begin - (quotes > 2 ? quotes / 2 - 1 : 0);
    return 1;
}

/* Cut text into values, `columns` a row, column after column, with room for so many rows each; `sizes` gets how many bytes each column has. Empty lines are no rows.
 * Returns how many rows there are, or -1 where something is not as it should be: a row of another width, a quote that is not closed or
 * stands where none is due, a carriage return alone, bytes that are no UTF-8, more rows than there is room for.
 *
 * 64 bytes at a time: where quotes stand says what is inside of them, so that separators and lines' ends outside are found without a look
 * at each byte (after G. Langdale, D. Lemire, Parsing gigabytes of JSON per second, 2019). */
int64_t oak_split(const uint8_t *data, int64_t size, int32_t separator, int32_t quote, int64_t columns, Value *values, int64_t room,
                  int64_t *sizes) {
    if (!is_utf8(data, size))
        return -1;
    int64_t begin = 0, row = 0, column = 0, quotes = 0, before = 0; /* quotes in all, and those before the value */
    uint64_t inside = 0;
    uint8_t mark = (uint8_t)quote;
    for (int64_t at = 0; at <= size; at += 64) {
        uint8_t some[64] = {0};
        int64_t left = size - at < 64 ? size - at : 64;
        memcpy(some, data + at, (size_t)left);
        if (left < 64)
            some[left] = '\n'; /* the last line ends where the text does */
        Bytes bytes;
        memcpy(&bytes, some, 64);
        uint64_t quoted = quote >= 0 ? where(bytes, mark) : 0, within = odd_so_far(quoted) ^ inside;
        uint64_t cuts = (where(bytes, (uint8_t)separator) | where(bytes, '\n')) & ~within;
        uint64_t returns = where(bytes, '\r') & ~within;
        inside = (uint64_t)((int64_t)within >> 63);
        for (; returns; returns &= returns - 1) { /* each stands before a line's end */
            int64_t next = at + __builtin_ctzll(returns) + 1;
            if (next < size && data[next] != '\n')
                return -1;
        }
        for (; cuts; cuts &= cuts - 1) {
            int bit = __builtin_ctzll(cuts);
            int64_t end = at + bit, now = quotes + __builtin_popcountll(quoted & ((1ULL << bit) - 1));
            int line = end >= size || data[end] == '\n', width = (int)column + 1;
            int64_t stop = line && end > begin && data[end - 1] == '\r' ? end - 1 : end;
            if (line && column == 0 && stop == begin) { /* an empty line, or nothing after the last one */
                begin = end + 1;
                before = now;
                continue;
            }
            if (row == room || width > columns || (line && width != columns))
                return -1;
            if (!taken(data, begin, stop, now - before, mark, values + column * room + row, sizes + column))
                return -1;
            begin = end + 1;
            before = now;
            column = line ? 0 : column + 1;
            row += line;
        }
        quotes += __builtin_popcountll(quoted);
    }
    return inside || column ? -1 : row;
}

/* One column as Arrow lays texts: edges, bytes, and bits that say which are there; what is empty and stands in no quotes is not.
 * Returns how many are null. */
int64_t oak_column(const uint8_t *data, int64_t size_of_data, const Value *values, int64_t rows, int32_t quote, int32_t *edges,
                   uint8_t *out, int64_t size_of_out, uint8_t *valid) {
    int64_t to = 0, nulls = 0, last = size_of_data - 15, room = size_of_out - 15; /* up to there sixteen bytes can be copied at once */
    const Value *one = values;
    for (int64_t row = 0; row < rows; row += 8) {
        uint8_t there = 0;
        int64_t end = row + 8 < rows ? row + 8 : rows;
        for (int64_t i = row; i < end; i++, one++) {
            edges[i] = (int32_t)to;
            const uint8_t *from = data + one->begin;
            uint32_t size = one->size;
            if (one->doubled) {
                for (uint32_t k = 0; k < size; k++) {
                    out[to++] = from[k];
                    k += from[k] == (uint8_t)quote; /* the second of two is left out */
                }
            } else {
                if (size <= 16 && one->begin < last && to < room)
                    memcpy(out + to, from, 16);
                else
                    memcpy(out + to, from, size);
                to += size;
            }
            there |= (uint8_t)((size || one->quoted) << (i - row));
        }
        valid[row >> 3] = there;
        nulls += (end - row) - __builtin_popcount(there);
    }
    edges[rows] = (int32_t)to;
    return nulls;
}
