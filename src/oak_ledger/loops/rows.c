/* Delimited text cut into rows and values. Whatever is not plain is left to a reader that knows more: nothing is guessed here. */
#include <stdlib.h>

#include "bits.h"

/* A value: where it begins, how long it is, and whether it stands in quotes and holds quotes itself. */
typedef struct { uint32_t begin, size : 30, quoted : 1, doubled : 1; } Value;

#define STEP 16384                /* bytes that are cut before their values are taken: a multiple of 64 */
#define LINE 0x80000000u          /* marks a cut that ends a line */
#define WHERE 0x3fffffffu
#define ROWS 1024                 /* rows whose columns are laid out while their text is at hand: a multiple of 8 */

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

/* Text on its way through the knife. */
typedef struct {
    const uint8_t *data;
    int64_t size, at;   /* what is before `at` is cut */
    uint8_t separator, mark;
    int quoting, twice; /* whether quotes mean anything; whether two have stood for one */
    uint32_t *cuts;     /* where values end whose row is not taken yet */
    int64_t found;
    /* What holds at the end of the last 64 bytes. All bits where within quotes; 1 where the last byte is a carriage return, where a value may begin
     * after it, where it closes quotes, where it is a carriage return after such a one. */
    uint64_t inside, returned, due, closed, passed;
    Bytes seen; /* all bytes of the last step, or-ed */
} Knife;

/* Cut as far as `end`; 0 where a carriage return stands alone, or a quote stands where none is due.
 *
 * 64 bytes at a time: where quotes stand says what is inside of them, so that separators and lines' ends outside are found without a look
 * at each byte (after G. Langdale, D. Lemire, Parsing gigabytes of JSON per second, 2019). Quotes open where a value begins, and close where
 * one ends; two of them inside, which stand for one, close and open again. */
static int cut(Knife *own, int64_t end) {
    uint64_t inside = own->inside, returned = own->returned, due = own->due, closed = own->closed, passed = own->passed, wrong = 0, twice = 0;
    uint32_t *to = own->cuts + own->found;
    Bytes seen = (Bytes)(0);
    int64_t at = own->at;
    for (; at < end; at += 64) {
        Bytes bytes;
        int64_t left = own->size - at;
        if (left >= 64)
            memcpy(&bytes, own->data + at, 64);
        else {
            uint8_t some[64] = {0};
            memcpy(some, own->data + at, (size_t)left);
            some[left] = '\n'; /* the last line ends where the text does */
            memcpy(&bytes, some, 64);
        }
        seen |= bytes;
        uint64_t quotes = own->quoting ? where(bytes, own->mark) : 0, within = odd_so_far(quotes) ^ inside;
        uint64_t opens = quotes & within, closes = quotes & ~within;
        uint64_t lines = where(bytes, '\n') & ~within, returns = where(bytes, '\r') & ~within;
        uint64_t rest = (where(bytes, own->separator) & ~within) | lines;
        uint64_t after = closes << 1 | closed, quoted = after | (after & returns) << 1 | passed;
        wrong |= (returns << 1 | returned) & ~lines;
        wrong |= (opens & ~((rest | closes) << 1 | due)) | (after & ~(rest | returns | opens));
        twice |= after & opens;
        inside = (uint64_t)((int64_t)within >> 63);
        returned = returns >> 63;
        due = (rest | closes) >> 63;
        closed = closes >> 63;
        passed = (after & returns) >> 63;
        uint32_t *next = to + __builtin_popcountll(rest);
        while (rest)
            for (int i = 0; i < 8; i++) { /* some too many, which are written over: that costs less than to ask each time */
                int bit = __builtin_ctzll(rest | 1ULL << 63);
                *to++ = (uint32_t)(at + bit) | (uint32_t)(lines >> bit & 1) << 31 | (uint32_t)(quoted >> bit & 1) << 30;
                rest &= rest - 1;
            }
        to = next;
    }
    own->inside = inside, own->returned = returned, own->due = due, own->closed = closed, own->passed = passed;
    own->found = to - own->cuts;
    own->seen = seen;
    own->twice |= twice != 0;
    own->at = at;
    return !wrong;
}

/* Whether the bytes of the last step are UTF-8; `checked` is how far that is known. */
static int fits_utf8(const Knife *own, int64_t *checked) {
    int64_t begin = *checked, stop = own->at < own->size ? own->at : own->size;
    uint64_t eights[8], high = 0;
    memcpy(eights, &own->seen, 64);
    for (int i = 0; i < 8; i++) high |= eights[i] & 0x8080808080808080ULL;
    if (high && stop < own->size) /* a character that goes on in the next step is left to it */
        for (int i = 0; i < 3 && stop > begin && (own->data[stop] & 0xc0) == 0x80; i++) stop--;
    *checked = stop;
    return !high || is_utf8(own->data + begin, stop - begin);
}

/* Rows on their way out: the values of the columns that are wanted, row after row, with room for so many rows. */
typedef struct {
    int64_t columns, count;
    const int64_t *wanted;
    Value *values;
    int64_t room, rows;
    uint32_t *sizes;
} Rows;

/* A value as a word of its beginning and one of the rest, from the cuts around it. */
#define TAKE(out, size, before, cut)                                                                                          \
    do {                                                                                                                      \
        uint32_t in = (cut) >> 30 & 1, begin = (((before) + 1) & WHERE) + in;                                                    \
        size = ((cut) & WHERE) - begin - in;                                                                                  \
        (out)[0] = begin;                                                                                                     \
        (out)[1] = size | in << 30;                                                                                           \
    } while (0)

/* The values of a row. `cuts` are those where they end; the one before the first is where the row begins, less one. */
static inline void take_row(const Rows *rows, const uint32_t *restrict cuts, uint32_t before, uint32_t over) {
    int64_t count = rows->count, columns = rows->columns;
    uint32_t *restrict out = (uint32_t *)(rows->values + rows->rows * count), *restrict sizes = rows->sizes;
    uint32_t size;
    if (count == columns) { /* all of them, in their order */
        TAKE(out, size, before, cuts[0]);
        sizes[0] += size;
        for (int64_t i = 1; i < columns; i++) {
            TAKE(out + 2 * i, size, cuts[i - 1], cuts[i]);
            sizes[i] += size;
        }
        out[2 * columns - 1] -= over; /* a carriage return */
        return;
    }
    for (int64_t i = 0; i < count; i++) {
        int64_t column = rows->wanted[i];
        TAKE(out + 2 * i, size, column ? cuts[column - 1] : before, cuts[column]);
        out[2 * i + 1] -= column == columns - 1 ? over : 0;
        sizes[i] += size;
    }
}

/* Take the rows whose cuts are all found, from `begin` on. The cuts that are left over move to the front.
 * Returns 0, -1 where a row has another width, -2 where there is no room. */
static int take_rows(Knife *own, Rows *rows, int64_t *begin) {
    const uint32_t *cuts = own->cuts;
    const uint8_t *data = own->data;
    int64_t columns = rows->columns, from = *begin, at = 0;
    for (;;) {
        if (at < own->found && cuts[at] & LINE) { /* an empty line is no row, nor is nothing after the last one */
            int64_t end = cuts[at] & WHERE, stop = end > from && data[end - 1] == '\r' ? end - 1 : end;
            if (stop == from) {
                from = end + 1;
                at++;
                continue;
            }
        }
        int64_t width = own->found - at < columns ? own->found - at : columns;
        uint32_t lines = 0;
        for (int64_t i = 0; i < width - (width == columns); i++) lines |= cuts[at + i];
        if (lines & LINE)
            return -1;
        if (width < columns)
            break;
        if (!(cuts[at + columns - 1] & LINE))
            return -1;
        if (rows->rows == rows->room)
            return -2;
        int64_t last = cuts[at + columns - 1] & WHERE;
        take_row(rows, cuts + at, (uint32_t)from - 1, last > from && data[last - 1] == '\r');
        if (own->twice) {
            Value *one = rows->values + rows->rows * rows->count;
            for (int64_t i = 0; i < rows->count; i++) one[i].doubled = one[i].quoted && memchr(data + one[i].begin, own->mark, one[i].size);
        }
        from = last + 1;
        at += columns;
        rows->rows++;
    }
    own->found -= at;
    memmove(own->cuts, own->cuts + at, (size_t)own->found * sizeof(uint32_t));
    *begin = from;
    return 0;
}

/* Cut text into values, `columns` a row, and keep those of the columns `wanted` (so many, each once; if they are all, in their order): row after
 * row, with room for so many rows; `sizes` gets how many bytes each column has at most, and must be 0. Empty lines are no rows.
 * Returns how many rows there are, or -1 where something is not as it should be: a row of another width, a quote that is not closed or
 * stands where none is due, a carriage return alone, bytes that are no UTF-8; -2 where there are more rows than there is room for. */
int64_t oak_split(const uint8_t *data, int64_t size, int32_t separator, int32_t quote, int64_t columns, const int64_t *wanted, int64_t count,
                  Value *values, int64_t room, uint32_t *sizes) {
    uint32_t *cuts = malloc(((size_t)columns + STEP + 128) * sizeof(uint32_t));
    Knife own = {.data = data, .size = size, .separator = (uint8_t)separator, .mark = (uint8_t)quote, .quoting = quote >= 0, .cuts = cuts, .due = 1};
    Rows rows = {columns, count, wanted, values, room, 0, sizes};
    int64_t begin = 0, checked = 0, told = cuts ? 0 : -1;
    while (!told && own.at <= size) {
        int64_t end = size - own.at < STEP ? size + 1 : own.at + STEP;
        told = cut(&own, end) && fits_utf8(&own, &checked) ? take_rows(&own, &rows, &begin) : -1;
    }
    free(cuts);
    return told ? told : own.inside || own.found ? -1 : rows.rows;
}

/* A column as Arrow lays texts: edges, bytes, and bits that say which are there; what is empty and stands in no quotes is not. */
typedef struct { int64_t edges, bytes, room, valid, nulls, size; } Column;

/* Lay out columns from the values of rows, a few rows of each at a time, while their text is at hand. `nulls` and `size` of each must be 0, and get
 * how many are null, and how many bytes there are. */
void oak_columns(const uint8_t *data, int64_t size_of_data, const Value *values, int64_t rows, int32_t quote, Column *columns, int64_t count) {
    int64_t last = size_of_data - 15; /* up to there sixteen bytes can be copied at once */
    for (int64_t begin = 0; begin < rows; begin += ROWS)
        for (Column *own = columns; own < columns + count; own++) {
            const Value *one = values + begin * count + (own - columns);
            int32_t *edges = (int32_t *)own->edges;
            uint8_t *out = (uint8_t *)own->bytes, *valid = (uint8_t *)own->valid;
            int64_t to = own->size, room = own->room - 15, stop = begin + ROWS < rows ? begin + ROWS : rows;
            for (int64_t row = begin; row < stop; row += 8) {
                uint8_t there = 0;
                int64_t end = row + 8 < stop ? row + 8 : stop;
                for (int64_t i = row; i < end; i++, one += count) {
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
                own->nulls += (end - row) - __builtin_popcount(there);
            }
            own->size = to;
            edges[stop] = (int32_t)to;
        }
}
