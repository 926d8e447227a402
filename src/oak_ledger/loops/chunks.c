/* Columns of a Parquet file, from its bytes into Arrow's memory, some rows after the other: what most files hold (flat columns, plain values
 * or a dictionary; pages packed by Snappy, by what the caller can unpack, or not at all), as the format's specification says. Whatever else is
 * met, or is not as it should be, is told as `CANNOT`, and another reader reads it. No byte is taken for granted: every length is held against
 * what is there. */
#define _XOPEN_SOURCE 700 /* pread */
#include <stdlib.h>

#include "pages.h"

#ifdef _WIN32
static int64_t pread(int fd, void *to, size_t size, int64_t from) { (void)fd, (void)to, (void)size, (void)from; return -1; }
#else
#include <unistd.h>
#endif

enum { DONE, CANNOT, MORE_ROOM };           /* what is told of a column */
/* How a column is wanted: as texts, as codes of texts, as bits, as numbers of so many bytes. */
enum { TEXTS = 0, CODES = 1, BITS = 2, WORDS = 4, LONG_WORDS = 8, WIDE = 16 };
enum { AS_IT_IS = 0, SNAPPY = 1 };          /* how its pages are packed; other numbers are the caller's */

#define BLOCK 1024             /* values at a time */
#define WINDOW (2LL << 20)     /* bytes of the file that are read at once; more where a page takes more */
#define HEADER (4LL << 10)     /* bytes that a page's header has, as a rule */

/* Unpack what is packed in a way of the caller's into just so many bytes; 0 where that cannot be done. */
typedef int32_t (*Unpack)(int64_t codec, const uint8_t *packed, int64_t size, uint8_t *out, int64_t want);

/* A column of one row group: where it lies in the file, and what it is (`each` are the bytes of one of its numbers there, `turned` says that
 * the highest comes first); how far it is read, and what is to be passed over before the next rows; where these are to go; what came of them. */
typedef struct {
    int64_t offset, size, raw, rows, kind, each, turned, floats, optional, codec;
    int64_t cursor, behind;
    int64_t out, valid, edges, texts, room;
    int64_t status, nulls, finite, bytes, entries;
} Column;

/* The rows that are wanted of the next ones: all, or those at the offsets told, which rise. */
typedef struct { int64_t rows; const int64_t *picked; int64_t count; } Wanted;

/* Memory that one column after the other uses. */
typedef struct { void *at; int64_t size; } Room;
typedef struct { Room window, dictionary, page, there, begins; } Rooms;

/* How far a column is read. */
typedef struct {
    Rooms rooms;
    int64_t from, until, at;                        /* which of the chunk's bytes the window holds; where the next page begins */
    Page dictionary;                                /* its page, where there is one; where this lies; its bytes when they are needed */
    int64_t dictionary_at;
    const uint8_t *known;
    int64_t entries, finite, begun;                 /* what it holds; the rows of all pages so far */
    int64_t left;                                   /* the rows of this page that are still to come */
    int plain;
    In in;                                          /* its values, where they are plain */
    Runs runs;                                      /* or codes */
    const uint8_t *there;                           /* which of its rows have one */
} Cursor;

typedef struct {
    int32_t file;
    const Tag *tags;
    Unpack unpack;
    Column *column;
    Cursor *cursor;
    int64_t row, used;                              /* rows and bytes of texts that went out */
    uint8_t *seen, *bits;                           /* which of these rows have a value; the bytes that become bits */
} Work;

static void *room_for(Room *room, int64_t size) {
    if (room->size < size + SLACK) {
        free(room->at);
        room->size = size + size / 4 + SLACK;
        room->at = malloc((size_t)room->size);
        if (!room->at)
            room->size = 0;
    }
    return room->at;
}

static void leave_rooms(Rooms *rooms) {
    Room *all[] = {&rooms->window, &rooms->dictionary, &rooms->page, &rooms->there, &rooms->begins};
    for (int i = 0; i < 5; i++) free(all[i]->at);
    *rooms = (Rooms){.window = {0, 0}};
}

/* -- pages ------------------------------------------------------------------------------------------------------------------- */

static inline uint32_t length_at(const uint8_t *at) {
    uint32_t size;
    memcpy(&size, at, 4);
    return size;
}

/* The bytes of the chunk from the next page on, at least so many; 0 where there are not so many, or they cannot be read. Where pages are passed
 * over, no more than these are read. */
static const uint8_t *next_bytes(Work *work, int64_t need) {
    Cursor *cursor = work->cursor;
    const Column *column = work->column;
    int passing = (double)column->behind / (double)column->rows * (double)column->size > (double)WINDOW;
    int64_t rest = column->size - cursor->at, some = need > WINDOW || passing ? need : WINDOW;
    if (need < 0 || need > rest)
        return 0;
    if (cursor->at >= cursor->from && cursor->at + need <= cursor->until)
        return (uint8_t *)cursor->rooms.window.at + (cursor->at - cursor->from);
    int64_t kept = cursor->at >= cursor->from && cursor->at < cursor->until ? cursor->until - cursor->at : 0;
    Room old = cursor->rooms.window, *room = &cursor->rooms.window;
    const uint8_t *from = (uint8_t *)old.at + (cursor->at - cursor->from);
    some = some < rest ? some : rest;
    if (kept && old.size < some + SLACK)
        room->at = 0, room->size = 0;
    uint8_t *to = room_for(room, some);
    if (to && kept)
        memmove(to, from, (size_t)kept);
    if (old.at != room->at && kept)
        free(old.at);
    cursor->from = cursor->until = cursor->at;
    while (to && kept < some) {
        int64_t got = (int64_t)pread(work->file, to + kept, (size_t)(some - kept), column->offset + cursor->at + kept);
        if (got <= 0)
            return 0;
        kept += got;
    }
    cursor->until += to ? some : 0;
    return to;
}

/* What is packed in a page, with SLACK behind it. */
static const uint8_t *unpacked(const Work *work, const uint8_t *bytes, int64_t packed, int64_t raw, int shrunk, Room *room) {
    int64_t codec = work->column->codec;
    if (codec == AS_IT_IS || !shrunk)
        return raw == packed ? bytes : 0;
    uint8_t *made = raw <= work->column->raw ? room_for(room, raw) : 0;
    if (!made)
        return 0;
    return (codec == SNAPPY ? unsnapped(work->tags, bytes, packed, made, raw) : work->unpack(codec, bytes, packed, made, raw)) ? made : 0;
}

static int all_finite(const uint8_t *numbers, int64_t size, int64_t width) {
    int bad = 0;
    if (width == 8) {
        for (int64_t i = 0; i < size; i++) {
            uint64_t one;
            memcpy(&one, numbers + 8 * i, 8);
            bad |= (one & 0x7ff0000000000000ULL) == 0x7ff0000000000000ULL;
        }
    } else {
        for (int64_t i = 0; i < size; i++) bad |= (length_at(numbers + 4 * i) & 0x7f800000U) == 0x7f800000U;
    }
    return !bad;
}

/* A whole number of any length as one of sixteen bytes. */
static inline void widen(const Column *column, const uint8_t *from, uint8_t *to) {
    int64_t each = column->each;
    uint8_t sign = from[column->turned ? 0 : each - 1] & 128 ? 0xff : 0;
    memset(to, sign, WIDE);
    if (column->turned)
        for (int64_t i = 0; i < each; i++) to[each - 1 - i] = from[i];
    else
        memcpy(to, from, (size_t)each);
}

/* The texts of a dictionary: where each begins, behind its length. */
static int find_texts(Cursor *cursor, int64_t size) {
    int32_t *begins = cursor->entries <= size / 4 ? room_for(&cursor->rooms.begins, cursor->entries * 4) : 0;
    if (!begins)
        return 0;
    int64_t at = 0;
    for (int64_t i = 0; i < cursor->entries; i++) {
        if (size - at < 4)
            return 0;
        int64_t length = length_at(cursor->known + at);
        at += 4;
        if (length > size - at)
            return 0;
        begins[i] = (int32_t)at;
        at += length;
    }
    return 1;
}

/* The dictionary, when the first page needs it. */
static int dictionary(Work *work) {
    Column *column = work->column;
    Cursor *cursor = work->cursor;
    const Page *page = &cursor->dictionary;
    Room *room = &cursor->rooms.dictionary;
    if (!cursor->dictionary_at || page->values < 0 || (page->encoding != PLAIN && page->encoding != PLAIN_DICTIONARY))
        return CANNOT;
    int64_t at = cursor->at;
    cursor->at = cursor->dictionary_at;
    const uint8_t *bytes = next_bytes(work, page->packed), *known = 0;
    cursor->at = at;
    if (bytes)
        known = unpacked(work, bytes, page->packed, page->raw, 1, room);
    if (known && known == bytes) { /* the window moves on */
        known = room_for(room, page->raw);
        if (known)
            memcpy(room->at, bytes, (size_t)page->raw);
    }
    if (!known)
        return CANNOT;
    cursor->known = known;
    cursor->entries = page->values;
    if (column->kind == BITS)
        return CANNOT;
    if (column->kind >= WORDS) {
        if (page->values > page->raw / column->each)
            return CANNOT;
        cursor->finite = !column->floats || all_finite(known, page->values, column->each);
        if (column->kind == WIDE) {
            Room wide = {0, 0};
            uint8_t *made = room_for(&wide, page->values * WIDE);
            for (int64_t i = 0; made && i < page->values; i++) widen(column, known + i * column->each, made + i * WIDE);
            free(room->at);
            *room = wide;
            cursor->known = made;
        }
        return cursor->known ? DONE : CANNOT;
    }
    if (!find_texts(cursor, page->raw))
        return CANNOT;
    if (column->kind == CODES) {
        const int32_t *begins = cursor->rooms.begins.at;
        int32_t *edges = (int32_t *)column->edges, end = 0;
        if (column->room < page->raw)
            return CANNOT;
        for (int64_t i = 0; i < page->values; i++) {
            int32_t length = (int32_t)length_at(known + begins[i] - 4);
            edges[i] = end;
            memcpy((uint8_t *)column->texts + end, known + begins[i], (size_t)length);
            end += length;
        }
        edges[page->values] = end;
        column->entries = page->values;
        column->bytes = end;
    }
    return DONE;
}

/* A page of values, opened. */
static int opened(Work *work, const Page *page, const uint8_t *bytes) {
    Cursor *cursor = work->cursor;
    int64_t before = page->kind == DATA_2 ? page->levels : 0; /* bytes of levels that are not packed with the values */
    if (page->repeats || before < 0 || before > page->packed || before > page->raw)
        return CANNOT;
    int by_runs = work->column->kind == BITS && page->encoding == RUN_LENGTHS;
    if (page->encoding != PLAIN && page->encoding != PLAIN_DICTIONARY && page->encoding != BY_DICTIONARY && !by_runs)
        return CANNOT;
    In in = {unpacked(work, bytes + before, page->packed - before, page->raw - before, page->shrunk, &cursor->rooms.page), 0, 0};
    if (!in.at)
        return CANNOT;
    in.end = in.at + (page->raw - before);
    int64_t count = page->values;
    cursor->there = 0;
    if (work->column->optional) {
        In told = {bytes, bytes + before, 0};
        if (page->kind == DATA) {
            if (page->level_encoding != RUN_LENGTHS || in.end - in.at < 4 || length_at(in.at) > in.end - in.at - 4)
                return CANNOT;
            told = (In){in.at + 4, in.at + 4 + length_at(in.at), 0};
            in.at = told.end;
        }
        uint8_t *there = room_for(&cursor->rooms.there, page->values);
        count = there ? levels(told, page->values, there) : -1;
        if (count < 0)
            return CANNOT;
        cursor->there = count < page->values ? there : 0;
    }
    cursor->plain = page->encoding == PLAIN && work->column->kind != BITS;
    if (by_runs) {
        if (in.end - in.at < 4)
            return CANNOT;
        in.at += 4;
        cursor->runs = (Runs){in, 1, 0, 0, 0, 0, 0};
    } else if (work->column->kind == BITS) { /* all of them are one run */
        if (page->encoding != PLAIN || in.end - in.at < (count + 7) / 8)
            return CANNOT;
        cursor->runs = (Runs){{in.end, in.end, 0}, 1, count, 0, 1, 0, in.at};
    } else if (!cursor->plain) {
        if (count && (!cursor->known || in.at >= in.end || *in.at > 32))
            return CANNOT;
        cursor->runs = (Runs){in, count ? *in.at : 0, 0, 0, 0, 0, 0};
        cursor->runs.in.at += count > 0;
    }
    cursor->in = in;
    cursor->left = page->values;
    return DONE;
}

/* The next page with rows that are wanted; others are not unpacked. */
static int next_page(Work *work) {
    Column *column = work->column;
    Cursor *cursor = work->cursor;
    for (;;) {
        int64_t rest = column->size - cursor->at, need = HEADER < rest ? HEADER : rest;
        Page page;
        In in;
        for (;; need = need * 8 < rest ? need * 8 : rest) {
            in.at = next_bytes(work, need);
            if (!in.at)
                return CANNOT;
            const uint8_t *begin = in.at;
            in = (In){begin, begin + need, 0};
            page = header(&in);
            if (!in.bad) {
                cursor->at += in.at - begin;
                break;
            }
            if (need == rest)
                return CANNOT;
        }
        if (page.packed < 0 || page.raw < 0 || page.raw > INT32_MAX || page.packed > column->size - cursor->at)
            return CANNOT;
        int values = page.kind == DATA || page.kind == DATA_2, status = DONE;
        if (values && (page.values < 0 || page.values > column->rows - cursor->begun))
            return CANNOT;
        int passed = !values || column->behind >= page.values;
        if (page.kind == DICTIONARY && !cursor->dictionary_at) {
            cursor->dictionary = page;
            cursor->dictionary_at = cursor->at;
        } else if (!values && page.kind != INDEX) {
            return CANNOT;
        }
        if (!passed && !cursor->known && cursor->dictionary_at && page.encoding != PLAIN)
            status = dictionary(work);
        if (!passed && status == DONE) {
            const uint8_t *bytes = next_bytes(work, page.packed);
            status = bytes ? opened(work, &page, bytes) : CANNOT;
        }
        cursor->at += page.packed;
        cursor->begun += values ? page.values : 0;
        if (passed && values)
            column->behind -= page.values;
        if (status != DONE || !passed)
            return status;
    }
}

/* -- the values of a page ------------------------------------------------------------------------------------------------------ */

static inline int64_t there_of(const uint8_t *there, int64_t rows) {
    int64_t count = 0, i = 0;
    for (; i + 8 <= rows; i += 8) {
        uint64_t eight;
        memcpy(&eight, there + i, 8);
        count += __builtin_popcountll(eight);
    }
    for (; i < rows; i++) count += there[i];
    return count;
}

/* The next `count` texts of a page, as they stand in it: where each begins, counted from the first one's length; 0 where there are not so many. */
static int walk(In *in, int64_t count, uint32_t *begins) {
    const uint8_t *first = in->at;
    for (int64_t i = 0; i < count; i++) {
        if (in->end - in->at < 4 || in->end - in->at - 4 < (int64_t)length_at(in->at))
            return 0;
        begins[i] = (uint32_t)(in->at + 4 - first);
        in->at += 4 + (int64_t)length_at(in->at);
    }
    return 1;
}

/* Pass over the next rows of a page, at most BLOCK. */
static int leave_values(Work *work, int64_t count) {
    Cursor *cursor = work->cursor;
    uint32_t begins[BLOCK];
    if (!cursor->plain)
        return leave(&cursor->runs, count) ? DONE : CANNOT;
    if (!work->column->each)
        return work->column->kind == TEXTS && walk(&cursor->in, count, begins) ? DONE : CANNOT;
    pass(&cursor->in, (uint64_t)(count * work->column->each));
    return cursor->in.bad ? CANNOT : DONE;
}

/* The rows of a block that are wanted: all of its `rows`, or `size` of them, where these stand among them and among those with a value. */
typedef struct { int64_t rows, count, size; const uint8_t *there; int picked; uint16_t row[BLOCK], at[BLOCK]; } Some;

/* What stands in a block for each of its rows, one after the other, from those that have a value on: by their codes, or as they come. */
typedef struct { uint64_t low, high; } Wide;
#define KEPT(one, mask) ((one) & (mask))
#define WIDE_KEPT(one, mask) ((Wide){(one).low & (mask), (one).high & (mask)})
#define ALL_THERE 0x0101010101010101ULL
#define SPREAD(name, type, kept)                                                                                      \
    static void name(type *out, const Some *some, const uint8_t *from, const uint32_t *codes) {                      \
        type one;                                                                                                     \
        for (int64_t row = 0, next = 0; row < some->rows; row += 8) {                                                \
            int64_t n = some->rows - row < 8 ? some->rows - row : 8;                                                 \
            uint64_t eight = 0;                                                                                       \
            memcpy(&eight, some->there + row, 8); /* there is SLACK behind the last one */                            \
            if (eight == ALL_THERE && n == 8) { /* mostly; then no row need wait for the one before */                \
                for (int64_t i = 0; i < 8; i++) {                                                                     \
                    memcpy(&one, from + (int64_t)sizeof one * (codes ? codes[next + i] : next + i), sizeof one);     \
                    out[row + i] = one;                                                                               \
                }                                                                                                     \
                next += 8;                                                                                            \
                continue;                                                                                             \
            }                                                                                                         \
            for (int64_t i = row; i < row + n; next += some->there[i++]) {                                           \
                memcpy(&one, from + (int64_t)sizeof one * (codes ? codes[next] : next), sizeof one);                 \
                out[i] = kept(one, -(uint64_t)some->there[i]);                                                        \
            }                                                                                                         \
        }                                                                                                             \
    }
SPREAD(spread_words, uint32_t, (uint32_t)KEPT)
SPREAD(spread_long_words, uint64_t, KEPT)
SPREAD(spread_wide, Wide, WIDE_KEPT)

/* The same of those that are picked, or of a block where all rows have a value. */
#define GATHER(type)                                                                                                  \
    for (int64_t i = 0; i < size; i++) memcpy((type *)out + i, from + (int64_t)sizeof(type) * codes[i], sizeof(type))

/* Numbers, bits as bytes, or codes of texts. */
static int numbers(Work *work, const Some *some) {
    Column *column = work->column;
    Cursor *cursor = work->cursor;
    int64_t width = column->kind == CODES ? 4 : column->kind == BITS ? 1 : column->kind, size = some->size;
    uint8_t *out = (column->kind == BITS ? work->bits : (uint8_t *)column->out) + work->row * width, made[BLOCK * WIDE + SLACK];
    uint32_t store[BLOCK + 8], chosen[BLOCK], most = 0, *codes = 0;
    const uint8_t *from = cursor->known;
    if (!some->count) { /* no row has a value, nor need there be a dictionary */
        memset(out, 0, (size_t)(size * width));
        return DONE;
    }
    if (cursor->plain) {
        from = cursor->in.at;
        if (!column->each || cursor->in.end - from < some->count * column->each)
            return CANNOT;
        cursor->in.at += some->count * column->each;
        if (column->floats && column->finite)
            column->finite = all_finite(from, some->count, width);
        if (column->kind == WIDE) {
            for (int64_t i = 0; i < some->count; i++) widen(column, from + column->each * i, made + WIDE * i);
            from = made;
        }
    } else {
        if (!take(&cursor->runs, some->count, store))
            return CANNOT;
        for (int64_t i = 0; i < some->count; i++) most = store[i] > most ? store[i] : most;
        if (most >= cursor->entries && column->kind != BITS)
            return CANNOT;
        store[some->count] = 0; /* a row without a value behind the last one looks there */
        if (column->kind == BITS || column->kind == CODES)
            from = (const uint8_t *)store;
        else
            codes = store;
    }
    if (some->picked) {
        for (int64_t i = 0; i < size; i++) chosen[i] = codes ? codes[some->at[i]] : some->at[i];
        codes = chosen;
    }
    if (column->kind == BITS) {
        const uint32_t *bits = store;
        for (int64_t i = 0, next = 0; i < size; i++) {
            uint8_t is = some->there ? some->there[some->picked ? some->row[i] : i] : 1;
            out[i] = is & (uint8_t)bits[some->picked ? codes[i] : next];
            next += is;
        }
        return DONE;
    }
    if (some->there && !some->picked) {
        if (width == WORDS)
            spread_words((uint32_t *)out, some, from, codes);
        else if (width == LONG_WORDS)
            spread_long_words((uint64_t *)out, some, from, codes);
        else
            spread_wide((Wide *)out, some, from, codes);
        return DONE;
    }
    if (!codes)
        memcpy(out, from, (size_t)(size * width));
    else if (width == WORDS)
        GATHER(uint32_t);
    else if (width == LONG_WORDS)
        GATHER(uint64_t);
    else
        GATHER(Wide);
    if (some->there) { /* what was gathered for rows that have no value is none */
        for (int64_t i = 0; i < size; i++) {
            if (!some->there[some->row[i]])
                memset(out + i * width, 0, (size_t)width);
        }
    }
    return DONE;
}

/* One text more, if there is room; how many bytes all of them take is counted in any case. */
static inline void add_text(Work *work, const uint8_t *from) {
    uint8_t *to = (uint8_t *)work->column->texts + work->used;
    int64_t length = length_at(from - 4);
    work->used += length;
    if (work->used > work->column->room)
        return;
    if (length <= 16) /* there is SLACK behind both */
        memcpy(to, from, 16);
    else
        memcpy(to, from, (size_t)length);
}

static int texts(Work *work, const Some *some) {
    Cursor *cursor = work->cursor;
    int32_t *edges = (int32_t *)work->column->edges + work->row;
    uint32_t store[BLOCK + 8];
    const uint8_t *from = cursor->plain ? cursor->in.at : cursor->known;
    if (work->used > INT32_MAX)
        return CANNOT;
    if (cursor->plain) {
        if (!walk(&cursor->in, some->count, store))
            return CANNOT;
    } else {
        const int32_t *begins = cursor->rooms.begins.at;
        if (!take(&cursor->runs, some->count, store))
            return CANNOT;
        for (int64_t i = 0; i < some->count; i++) {
            if (store[i] >= cursor->entries)
                return CANNOT;
            store[i] = (uint32_t)begins[store[i]];
        }
    }
    for (int64_t i = 0, next = 0; i < some->size; i++) {
        int64_t row = some->picked ? some->row[i] : i;
        edges[i] = (int32_t)work->used;
        if (!some->there || some->there[row])
            add_text(work, from + store[some->picked ? some->at[i] : next++]);
    }
    return DONE;
}

/* -- rows ---------------------------------------------------------------------------------------------------------------------- */

/* Pass over rows: pages of nothing else are not unpacked. */
static int passed_over(Work *work) {
    Column *column = work->column;
    Cursor *cursor = work->cursor;
    while (column->behind) {
        int status = DONE;
        if (!cursor->left) {
            status = next_page(work);
        } else {
            int64_t n = column->behind < cursor->left ? column->behind : cursor->left;
            n = n < BLOCK ? n : BLOCK;
            status = leave_values(work, cursor->there ? there_of(cursor->there, n) : n);
            cursor->there += cursor->there ? n : 0;
            cursor->left -= n;
            column->behind -= n;
        }
        if (status != DONE)
            return status;
    }
    return DONE;
}

/* The next rows of a page, at most BLOCK: those wanted are told in `some`. */
static int block(Work *work, Some *some) {
    Cursor *cursor = work->cursor;
    some->there = cursor->there;
    some->count = cursor->there ? there_of(cursor->there, some->rows) : some->rows;
    if (some->picked && cursor->there) {
        int64_t at = 0, before = 0;
        for (int64_t i = 0; i < some->size; i++) {
            for (; at < some->row[i]; at++) before += cursor->there[at];
            some->at[i] = (uint16_t)(before < some->count ? before : 0);
        }
    } else if (some->picked) {
        memcpy(some->at, some->row, (size_t)some->size * 2);
    }
    int status = work->column->kind == TEXTS ? texts(work, some) : numbers(work, some);
    if (work->column->optional) {
        uint8_t *seen = work->seen + work->row;
        if (!cursor->there)
            memset(seen, 1, (size_t)some->size);
        else if (!some->picked)
            memcpy(seen, cursor->there, (size_t)some->size);
        else
            for (int64_t i = 0; i < some->size; i++) seen[i] = cursor->there[some->row[i]];
        if (cursor->there)
            work->column->nulls += some->size - (some->picked ? there_of(seen, some->size) : some->count);
    }
    cursor->there += cursor->there ? some->rows : 0;
    cursor->left -= some->rows;
    work->row += some->size;
    return status;
}

static int rows_wanted(Work *work, const Wanted *wanted) {
    Column *column = work->column;
    Cursor *cursor = work->cursor;
    Some some;
    some.picked = wanted->picked != 0;
    for (int64_t row = 0, pick = 0; row < wanted->rows;) {
        if (some.picked) { /* what stands before the next one */
            int64_t next = pick < wanted->count ? wanted->picked[pick] : wanted->rows;
            column->behind += next - row;
            row = next;
            if (row == wanted->rows)
                break;
        }
        int status = passed_over(work);
        if (status == DONE && !cursor->left)
            status = next_page(work);
        if (status != DONE)
            return status;
        int64_t n = wanted->rows - row < cursor->left ? wanted->rows - row : cursor->left;
        some.rows = some.size = n < BLOCK ? n : BLOCK;
        if (some.picked) {
            for (some.size = 0; pick < wanted->count && wanted->picked[pick] < row + some.rows; pick++)
                some.row[some.size++] = (uint16_t)(wanted->picked[pick] - row);
        }
        row += some.rows;
        if (some.rows && (status = block(work, &some)) != DONE)
            return status;
    }
    if (column->kind == TEXTS) {
        if (work->used > INT32_MAX)
            return CANNOT;
        ((int32_t *)column->edges)[work->row] = (int32_t)work->used;
        column->bytes = work->used;
        if (work->used > column->room)
            return MORE_ROOM;
    } else if (column->kind == CODES && !cursor->known && column->nulls < work->row) {
        return CANNOT;
    }
    column->finite &= cursor->finite;
    if (column->kind == BITS)
        pack(work->bits, work->row, (uint8_t *)column->out, 0);
    if (column->nulls)
        pack(work->seen, work->row, (uint8_t *)column->valid, 0);
    return DONE;
}

/* The next rows of columns of a row group of an open file, all or those picked; what came of each is told in it. */
void oak_read_columns(int32_t file, Unpack unpack, Column *columns, int64_t count, int64_t rows, const int64_t *picked, int64_t size) {
    Wanted wanted = {rows, picked, size};
    Rooms spare = {.window = {0, 0}};
    Room seen = {0, 0}, bits = {0, 0};
    Tag tags[256];
    tags_of(tags);
    for (Column *column = columns; column < columns + count; column++) {
        Cursor *cursor = (Cursor *)column->cursor;
        if (!cursor) {
            cursor = calloc(1, sizeof(Cursor));
            if (cursor) {
                cursor->rooms = spare;
                cursor->finite = 1;
                spare = (Rooms){.window = {0, 0}};
            }
        }
        Work work = {file, tags, unpack, column, cursor, 0, 0, column->optional ? room_for(&seen, rows) : 0, 0};
        int room = !column->optional || work.seen;
        if (column->kind == BITS)
            room &= (work.bits = room_for(&bits, rows)) != 0;
        column->nulls = column->bytes = column->entries = 0;
        column->finite = 1;
        column->status = cursor && room ? rows_wanted(&work, &wanted) : CANNOT;
        if (cursor && (column->status != DONE || (cursor->begun == column->rows && !cursor->left))) {
            leave_rooms(&spare);
            spare = cursor->rooms;
            free(cursor);
            cursor = 0;
        }
        column->cursor = (int64_t)cursor;
    }
    leave_rooms(&spare);
    free(seen.at);
    free(bits.at);
}

/* What is kept for columns that are not read to their ends. */
void oak_leave_columns(Column *columns, int64_t count) {
    for (Column *column = columns; column < columns + count; column++) {
        Cursor *cursor = (Cursor *)column->cursor;
        if (cursor)
            leave_rooms(&cursor->rooms);
        free(cursor);
        column->cursor = 0;
    }
}
