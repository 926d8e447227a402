/* Delimited text cut into rows and values, and what is wanted of each column taken from them: its texts, or only what these are. Whatever is
 * not plain is left to a reader that knows more: nothing is guessed here. */
#include <stdlib.h>

#include "looks.h"

/* A value: where it begins, how long it is, and whether it stands in quotes and holds quotes itself. */
typedef struct { uint32_t begin, size : 30, quoted : 1, doubled : 1; } Value;

#define STEP 16384                /* bytes that are cut before their values are taken: a multiple of 64 */
#define LINE 0x80000000u          /* marks a cut that ends a line */
#define WHERE 0x3fffffffu

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

/* Rows on their way out: the values of the columns that are wanted, row after row. */
typedef struct {
    int64_t columns, count;
    const int64_t *wanted;
    Value *values;
    int64_t rows;
} Rows;

/* A value as a word of its beginning and one of the rest, from the cuts around it. */
static inline void take(uint32_t *out, uint32_t before, uint32_t cut) {
    uint32_t in = cut >> 30 & 1, begin = ((before + 1) & WHERE) + in;
    out[0] = begin;
    out[1] = ((cut & WHERE) - begin - in) | in << 30;
}

/* The values of a row. `cuts` are those where they end; the one before the first is where the row begins, less one. */
static inline void take_row(const Rows *rows, const uint32_t *restrict cuts, uint32_t before, uint32_t over) {
    int64_t count = rows->count, columns = rows->columns;
    uint32_t *restrict out = (uint32_t *)(rows->values + rows->rows * count);
    if (count == columns) { /* all of them, in their order */
        take(out, before, cuts[0]);
        for (int64_t i = 1; i < columns; i++) take(out + 2 * i, cuts[i - 1], cuts[i]);
        out[2 * columns - 1] -= over; /* a carriage return */
        return;
    }
    for (int64_t i = 0; i < count; i++) {
        int64_t column = rows->wanted[i];
        take(out + 2 * i, column ? cuts[column - 1] : before, cuts[column]);
        out[2 * i + 1] -= column == columns - 1 ? over : 0;
    }
}

/* Take the rows whose cuts are all found, from `begin` on. The cuts that are left over move to the front.
 * Returns 0, or -1 where a row has another width. There is room for as many values as there may be cuts. */
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

/* -- what is wanted of a column ------------------------------------------------------------------------------------------ */

/* Its texts as Arrow lays them: edges, bytes, and bits that say which are there. How many are null. Whether all are plain numbers. Which are
 * different, where they are few: as texts, with how often each comes and the first row that has it. What is empty and stands in no quotes is null. */
enum { TEXTS, NULLS, NUMBERS, FEW };
enum { DONE, NOT_SO, MORE_ROOM };

/* What is wanted, and where it goes (`room` bytes of texts; `most` different ones); what came of it. */
typedef struct {
    int64_t wanted, edges, bytes, room, valid, counts, first, most, kinds;
    int64_t status, nulls, size, different;
} Task;

/* The values of some rows; one column's lie `width` apart. */
typedef struct { const uint8_t *data; int64_t size; const Value *values; int64_t width, first, rows; uint8_t mark; } Some;

static inline int is_null(const Value *one) { return !one->size && !one->quoted; }

/* The bytes of a value, with one quote for two. */
static int64_t put_doubled(const Some *some, const Value *one, uint8_t *out) {
    const uint8_t *from = some->data + one->begin;
    int64_t size = 0;
    for (uint32_t k = 0; k < one->size; k++) {
        out[size++] = from[k];
        k += from[k] == some->mark; /* the second of two is left out */
    }
    return size;
}

static void lay_texts(Task *own, const Some *some, const Value *one) {
    int32_t *edges = (int32_t *)own->edges + some->first;
    uint8_t *out = (uint8_t *)own->bytes, *valid = (uint8_t *)own->valid + some->first / 8;
    int64_t last = some->size - 15, to = own->size, room = own->room - 15; /* up to there sixteen bytes can be copied at once */
    for (int64_t row = 0; row < some->rows; row += 8) {
        uint8_t there = 0;
        int64_t n = some->rows - row < 8 ? some->rows - row : 8;
        for (int64_t i = 0; i < n; i++, one += some->width) {
            uint32_t size = one->size;
            edges[row + i] = (int32_t)to;
            there |= (uint8_t)(!is_null(one) << i);
            if (size <= 16 && one->begin < last && to < room && !one->doubled) {
                memcpy(out + to, some->data + one->begin, 16);
                to += size;
                continue;
            }
            if (to + size > own->room) { /* it is counted only */
                own->status = MORE_ROOM;
                to += size;
            } else if (one->doubled)
                to += put_doubled(some, one, out + to);
            else {
                memcpy(out + to, some->data + one->begin, size);
                to += size;
            }
        }
        valid[row >> 3] = there;
        own->nulls += n - __builtin_popcount(there);
    }
    own->size = to;
    edges[some->rows] = (int32_t)to;
}

static void count_nulls(Task *own, const Some *some, const Value *one) {
    for (int64_t i = 0; i < some->rows; i++, one += some->width) own->nulls += is_null(one);
}

static void judge_numbers(Task *own, const Some *some, const Value *one) {
    int32_t *kinds = (int32_t *)own->kinds;
    const uint8_t *data = some->data;
    int64_t nulls = 0, rows = some->rows, width = some->width;
    for (int64_t i = 0; i < rows; i++, one += width) {
        if (is_null(one))
            nulls++;
        else if (!plain_number((Text){data + one->begin, one->size}, kinds)) {
            own->status = NOT_SO;
            return;
        }
    }
    own->nulls += nulls;
}

static void tell_different(Task *own, const Some *some, const Value *one, Different *known) {
    int64_t *counts = (int64_t *)own->counts, *first = (int64_t *)own->first;
    for (int64_t i = 0; i < some->rows; i++, one += some->width) {
        if (is_null(one)) {
            own->nulls++;
            continue;
        }
        int is_new;
        int32_t code = one->doubled ? -1 : number_of(known, (Text){some->data + one->begin, one->size}, own->most, &is_new);
        if (code < 0) {
            own->status = NOT_SO;
            return;
        }
        if (is_new) {
            counts[code] = 0;
            first[code] = some->first + i;
        }
        counts[code]++;
    }
}

/* The different texts, one after the other. */
static void lay_different(Task *own, const Different *known) {
    int32_t *edges = (int32_t *)own->edges;
    own->different = known->found;
    for (int32_t at = 0; at < known->found; at++) {
        edges[at] = (int32_t)own->size;
        if (own->size + known->known[at].size <= own->room)
            memcpy((uint8_t *)own->bytes + own->size, known->known[at].data, (size_t)known->known[at].size);
        else
            own->status = MORE_ROOM;
        own->size += known->known[at].size;
    }
    edges[known->found] = (int32_t)own->size;
}

/* Cut text into rows of `columns` values, and do what is wanted of some of the columns (so many, each once; if they are all, in their order),
 * some rows of each at a time, while their text is at hand; there is room for so many rows. What came of a task must be 0 before. Empty lines
 * are no rows.
 *
 * Returns how many rows there are, or -1 where something is not as it should be: a row of another width, a quote that is not closed or
 * stands where none is due, a carriage return alone, bytes that are no UTF-8; -2 where there are more rows than there is room for. */
int64_t oak_cut(const uint8_t *data, int64_t size, int32_t separator, int32_t quote, int64_t columns, const int64_t *wanted, int64_t count,
                Task *tasks, int64_t room) {
    int64_t most = STEP + 128 + columns, asked = 0, done = 0, begin = 0, checked = 0, told = 0;
    for (int64_t i = 0; i < count; i++) asked += tasks[i].wanted == FEW;
    uint32_t *cuts = malloc((size_t)most * sizeof(uint32_t));
    Value *values = malloc((size_t)(most + 8 * count) * sizeof(Value));
    Different *known = malloc((size_t)(asked + 1) * sizeof(Different));
    Knife own = {.data = data, .size = size, .separator = (uint8_t)separator, .mark = (uint8_t)quote, .quoting = quote >= 0, .cuts = cuts, .due = 1};
    Rows rows = {columns, count, wanted, values, 0};
    for (int64_t i = 0; known && i < asked; i++) none_different(known + i);
    told = cuts && values && known ? 0 : -1;
    while (!told && own.at <= size) {
        int64_t end = size - own.at < STEP ? size + 1 : own.at + STEP;
        told = cut(&own, end) && fits_utf8(&own, &checked) ? take_rows(&own, &rows, &begin) : -1;
        Some some = {data, size, values, count, done, own.at > size ? rows.rows : rows.rows & ~7LL, (uint8_t)quote};
        if (!told && done + some.rows > room)
            told = -2;
        Different *next = known;
        for (Task *task = tasks; !told && task < tasks + count; task++) {
            Different *here = task->wanted == FEW ? next++ : 0;
            const Value *one = values + (task - tasks);
            if (task->status == NOT_SO)
                continue;
            if (task->wanted == TEXTS) lay_texts(task, &some, one);
            else if (task->wanted == NULLS) count_nulls(task, &some, one);
            else if (task->wanted == NUMBERS) judge_numbers(task, &some, one);
            else tell_different(task, &some, one, here);
        }
        done += some.rows;
        rows.rows -= some.rows;
        memmove(values, values + some.rows * count, (size_t)(rows.rows * count) * sizeof(Value));
    }
    Different *next = known;
    for (Task *task = tasks; !told && task < tasks + count; task++)
        if (task->wanted == FEW && next++ && task->status == DONE)
            lay_different(task, next - 1);
    free(cuts);
    free(values);
    free(known);
    return told ? told : own.inside || own.found ? -1 : done;
}
