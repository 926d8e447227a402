/* Columns of a Parquet file, from its bytes into Arrow's memory: what most files hold (flat columns, plain values or a dictionary,
 * Snappy or nothing), as the format's specification says. Whatever else is met, or is not as it should be, is told as `CANNOT`,
 * and another reader reads it. No byte is taken for granted: every length is held against what is there. */
#define _XOPEN_SOURCE 700 /* pread */
#include <stdlib.h>

#include "packed.h"

#ifdef _WIN32
static int64_t pread(int fd, void *to, size_t size, int64_t from) { (void)fd, (void)to, (void)size, (void)from; return -1; }
#else
#include <unistd.h>
#endif

enum { DONE, CANNOT, MORE_ROOM };           /* what is told of a column */
enum { TEXTS = 0, CODES = 1, WORDS = 4, LONG_WORDS = 8 }; /* how a column is wanted: as texts, as codes of texts, as numbers of so many bytes */
enum { DATA = 0, INDEX = 1, DICTIONARY = 2, DATA_2 = 3 }; /* kinds of pages */
enum { PLAIN = 0, PLAIN_DICTIONARY = 2, RUN_LENGTHS = 3, BY_DICTIONARY = 8 };

#define BLOCK 1024 /* codes at a time */

/* A column of one row group: where it lies in the file, what it is, where it is to go; then what came of it. */
typedef struct {
    int64_t offset, size, raw, rows, kind, floats, optional, snappy;
    int64_t out, valid, edges, texts, room;
    int64_t status, nulls, finite, bytes, entries;
} Column;

/* -- the headers of pages ----------------------------------------------------------------------------------------------------- */

static int64_t zigzag(In *in) {
    uint64_t one = varint(in);
    return (int64_t)(one >> 1) ^ -(int64_t)(one & 1);
}

static void pass(In *in, uint64_t bytes) {
    if (bytes > (uint64_t)(in->end - in->at))
        in->bad = 1;
    else
        in->at += bytes;
}

/* The next field of a struct: its number, and its type; 0 where the struct ends. */
static int field(In *in, int64_t *number) {
    if (in->bad || in->at >= in->end) {
        in->bad = 1;
        return 0;
    }
    uint8_t head = *in->at++;
    if (head)
        *number = head >> 4 ? *number + (head >> 4) : zigzag(in);
    return head & 15;
}

static void skip(In *in, int type, int depth) {
    int64_t number = 0;
    if (depth > 16)
        in->bad = 1;
    if (in->bad)
        return;
    switch (type) {
    case 1: case 2: return;
    case 3: pass(in, 1); return;
    case 4: case 5: case 6: varint(in); return;
    case 7: pass(in, 8); return;
    case 8: pass(in, varint(in)); return;
    case 9: case 10: {
        if (in->at >= in->end) {
            in->bad = 1;
            return;
        }
        uint8_t head = *in->at++;
        uint64_t items = head >> 4 == 15 ? varint(in) : head >> 4;
        int each = (head & 15) <= 2 ? 3 : head & 15;
        for (; items && !in->bad; items--) skip(in, each, depth + 1);
        return;
    }
    case 12:
        for (int each; (each = field(in, &number));) skip(in, each, depth + 1);
        return;
    default: in->bad = 1;
    }
}

typedef struct { int64_t kind, raw, packed, values, encoding, level_encoding, levels, repeats; int shrunk; } Page;

/* What a page's own header says, of any of the three kinds: which field says what differs. */
static void page_of(In *in, int64_t kind, Page *page) {
    int64_t number = 0;
    for (int type; (type = field(in, &number));) {
        int whole = type == 5;
        if (whole && number == 1) page->values = zigzag(in);
        else if (whole && number == (kind == DATA_2 ? 4 : 2)) page->encoding = zigzag(in);
        else if (whole && kind == DATA && number == 3) page->level_encoding = zigzag(in);
        else if (whole && kind == DATA_2 && number == 5) page->levels = zigzag(in);
        else if (whole && kind == DATA_2 && number == 6) page->repeats = zigzag(in);
        else if (kind == DATA_2 && number == 7) page->shrunk = type == 1;
        else skip(in, type, 0);
    }
}

static Page header(In *in) {
    Page page = {-1, -1, -1, -1, -1, RUN_LENGTHS, 0, 0, 1};
    int64_t number = 0;
    for (int type; (type = field(in, &number));) {
        int whole = type == 5;
        if (whole && number == 1) page.kind = zigzag(in);
        else if (whole && number == 2) page.raw = zigzag(in);
        else if (whole && number == 3) page.packed = zigzag(in);
        else if (type == 12 && number == 5) page_of(in, DATA, &page);
        else if (type == 12 && number == 7) page_of(in, DICTIONARY, &page);
        else if (type == 12 && number == 8) page_of(in, DATA_2, &page);
        else skip(in, type, 0);
    }
    return page;
}

/* Which of a page's values are there, as bytes, and how many; -1 where that cannot be told. */
static int64_t levels(In in, int64_t values, uint8_t *there) {
    int64_t count = 0, done = 0;
    while (done < values) {
        uint64_t head = varint(&in);
        if (in.bad || head >> 33 || in.at >= in.end)
            return -1;
        int64_t n = (int64_t)(head >> 1) * (head & 1 ? 8 : 1);
        n = n < values - done ? n : values - done;
        if (head & 1) {
            if (in.end - in.at < (n + 7) / 8)
                return -1;
            unpack(in.at, 0, n, there + done);
            for (int64_t i = 0; i < n; i++) count += there[done + i];
            pass(&in, head >> 1);
        } else {
            int one = *in.at++;
            if (one > 1)
                return -1;
            memset(there + done, one, (size_t)n);
            count += one * n;
        }
        done += n;
    }
    return count;
}

/* -- one column ------------------------------------------------------------------------------------------------------------ */

/* Memory that one column after the other uses. */
typedef struct { void *at; int64_t size; } Room;

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

typedef struct { Room chunk, dictionary, page, there, begins; Tag tags[256]; } Rooms;

typedef struct {
    Column *column;
    Rooms *rooms;
    const uint8_t *chunk, *known;                   /* the bytes as in the file; the dictionary's */
    int64_t entries, row, used;
    uint8_t *there;                                 /* which values are there */
    int32_t *begins;                                /* where each text of the dictionary begins among its bytes, behind its length */
} Work;

static inline uint32_t length_at(const uint8_t *at) {
    uint32_t size;
    memcpy(&size, at, 4);
    return size;
}

/* What is packed in a page, with SLACK behind it. */
static const uint8_t *unpacked(const Work *work, const uint8_t *bytes, int64_t packed, int64_t raw, int shrunk, Room *room) {
    if (!work->column->snappy || !shrunk)
        return raw == packed ? bytes : 0;
    uint8_t *made = raw <= work->column->raw ? room_for(room, raw) : 0;
    return made && unsnapped(work->rooms->tags, bytes, packed, made, raw) ? made : 0;
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

/* The texts of a dictionary: where each begins. */
static int find_texts(Work *work, int64_t size) {
    work->begins = work->entries <= size / 4 ? room_for(&work->rooms->begins, work->entries * 4) : 0;
    if (!work->begins)
        return 0;
    int64_t at = 0;
    for (int64_t i = 0; i < work->entries; i++) {
        if (size - at < 4)
            return 0;
        int64_t length = length_at(work->known + at);
        at += 4;
        if (length > size - at)
            return 0;
        work->begins[i] = (int32_t)at;
        at += length;
    }
    return 1;
}

static int dictionary(Work *work, const Page *page, const uint8_t *bytes) {
    Column *column = work->column;
    if (work->known || page->raw > INT32_MAX || (page->encoding != PLAIN && page->encoding != PLAIN_DICTIONARY))
        return CANNOT;
    work->known = unpacked(work, bytes, page->packed, page->raw, 1, &work->rooms->dictionary);
    work->entries = page->values;
    if (!work->known)
        return CANNOT;
    if (column->kind >= WORDS) {
        if (page->values > page->raw / column->kind)
            return CANNOT;
        if (column->floats)
            column->finite &= all_finite(work->known, page->values, column->kind);
        return DONE;
    }
    if (!find_texts(work, page->raw))
        return CANNOT;
    if (column->kind == CODES) {
        int32_t *edges = (int32_t *)column->edges, end = 0;
        if (column->room < page->raw || !work->entries)
            return CANNOT;
        for (int64_t i = 0; i < work->entries; i++) {
            int32_t begin = work->begins[i], length = (int32_t)length_at(work->known + begin - 4);
            edges[i] = end;
            memcpy((uint8_t *)column->texts + end, work->known + begin, (size_t)length);
            end += length;
        }
        edges[work->entries] = end;
        column->entries = work->entries;
        column->bytes = end;
    }
    return DONE;
}

/* Each of `count` numbers moved to where it belongs, from the last to the first. */
#define APART(name, type)                                                                \
    static void name(type *out, int64_t rows, int64_t count, const uint8_t *there) {     \
        for (int64_t i = rows - 1; i >= 0; i--) {                                        \
            count -= there[i];                                                           \
            out[i] = there[i] ? out[count] : 0;                                          \
        }                                                                                \
    }
APART(apart_words, uint32_t)
APART(apart_long_words, uint64_t)

/* Numbers, or codes of texts: `count` of `rows` are there. */
static int numbers(Work *work, const Page *page, In in, int64_t count) {
    Column *column = work->column;
    int64_t width = column->kind == CODES ? 4 : column->kind, rows = page->values;
    uint8_t *out = (uint8_t *)column->out + work->row * width;
    if (page->encoding == PLAIN) {
        if (column->kind == CODES || in.end - in.at < count * width)
            return CANNOT;
        memcpy(out, in.at, (size_t)(count * width));
        if (column->floats)
            column->finite &= all_finite(out, count, width);
    } else {
        uint32_t some[BLOCK + 8];
        if (!work->known || (count && in.at >= in.end))
            return CANNOT;
        Runs runs = {in, count ? *in.at : 0, 0, 0, 0, 0, 0};
        runs.in.at += count > 0;
        if (runs.width > 32)
            return CANNOT;
        for (int64_t begin = 0; begin < count; begin += BLOCK) {
            int64_t n = count - begin < BLOCK ? count - begin : BLOCK;
            uint32_t most = 0;
            if (!take(&runs, n, some))
                return CANNOT;
            for (int64_t i = 0; i < n; i++) most = some[i] > most ? some[i] : most;
            if (most >= work->entries)
                return CANNOT;
            if (column->kind == LONG_WORDS) {
                for (int64_t i = 0; i < n; i++) memcpy(out + 8 * (begin + i), work->known + 8 * (int64_t)some[i], 8);
            } else if (column->kind == WORDS) {
                for (int64_t i = 0; i < n; i++) memcpy(out + 4 * (begin + i), work->known + 4 * (int64_t)some[i], 4);
            } else {
                memcpy(out + 4 * begin, some, (size_t)n * 4);
            }
        }
    }
    if (count < rows) {
        if (width == 8)
            apart_long_words((uint64_t *)out, rows, count, work->there + work->row);
        else
            apart_words((uint32_t *)out, rows, count, work->there + work->row);
    }
    return DONE;
}

/* One text more, if there is room; how many bytes all of them take is counted in any case. */
static inline void add_text(Work *work, const uint8_t *from, int64_t length) {
    uint8_t *to = (uint8_t *)work->column->texts + work->used;
    work->used += length;
    if (work->used > work->column->room)
        return;
    if (length <= 16) /* there is SLACK behind both */
        memcpy(to, from, 16);
    else
        memcpy(to, from, (size_t)length);
}

static int texts(Work *work, const Page *page, In in) {
    Column *column = work->column;
    int32_t *edges = (int32_t *)column->edges + work->row;
    const uint8_t *there = column->optional ? work->there + work->row : 0;
    uint32_t some[BLOCK + 8];
    Runs runs = {in, 0, 0, 0, 0, 0, 0};
    if (page->encoding != PLAIN) {
        if (!work->known || (in.at < in.end && *in.at > 32))
            return CANNOT;
        if (in.at < in.end)
            runs.width = *runs.in.at++;
    }
    for (int64_t begin = 0; begin < page->values; begin += BLOCK) {
        int64_t n = page->values - begin < BLOCK ? page->values - begin : BLOCK, count = n, at = 0;
        if (there)
            for (int64_t i = count = 0; i < n; i++) count += there[begin + i];
        if (work->used > INT32_MAX)
            return CANNOT;
        if (page->encoding == PLAIN) {
            for (int64_t i = 0; i < n; i++) {
                edges[begin + i] = (int32_t)work->used;
                if (there && !there[begin + i])
                    continue;
                if (in.end - in.at < 4)
                    return CANNOT;
                int64_t length = length_at(in.at);
                in.at += 4;
                if (length > in.end - in.at)
                    return CANNOT;
                add_text(work, in.at, length);
                in.at += length;
            }
            continue;
        }
        if (!take(&runs, count, some))
            return CANNOT;
        for (int64_t i = 0; i < n; i++) {
            edges[begin + i] = (int32_t)work->used;
            if (there && !there[begin + i])
                continue;
            uint32_t code = some[at++];
            if (code >= work->entries)
                return CANNOT;
            const uint8_t *from = work->known + work->begins[code];
            add_text(work, from, length_at(from - 4));
        }
    }
    return DONE;
}

/* A page of values. */
static int data(Work *work, const Page *page, const uint8_t *bytes) {
    Column *column = work->column;
    int64_t before = page->kind == DATA_2 ? page->levels : 0; /* bytes of levels that are not packed with the values */
    if (page->values > column->rows - work->row || page->repeats || before < 0 || before > page->packed || before > page->raw)
        return CANNOT;
    if (page->encoding != PLAIN && page->encoding != PLAIN_DICTIONARY && page->encoding != BY_DICTIONARY)
        return CANNOT;
    In in = {unpacked(work, bytes + before, page->packed - before, page->raw - before, page->shrunk, &work->rooms->page), 0, 0};
    if (!in.at)
        return CANNOT;
    in.end = in.at + (page->raw - before);
    int64_t count = page->values;
    if (column->optional) {
        In told = {bytes, bytes + before, 0};
        if (page->kind == DATA) {
            if (page->level_encoding != RUN_LENGTHS || in.end - in.at < 4 || length_at(in.at) > in.end - in.at - 4)
                return CANNOT;
            told = (In){in.at + 4, in.at + 4 + length_at(in.at), 0};
            in.at = told.end;
        }
        count = levels(told, page->values, work->there + work->row);
        if (count < 0)
            return CANNOT;
        column->nulls += page->values - count;
    }
    int status = column->kind == TEXTS ? texts(work, page, in) : numbers(work, page, in, count);
    work->row += page->values;
    return status;
}

static int pages(Work *work) {
    Column *column = work->column;
    In in = {work->chunk, work->chunk + column->size, 0};
    while (work->row < column->rows) {
        Page page = header(&in);
        if (in.bad || page.packed < 0 || page.raw < 0 || page.packed > in.end - in.at)
            return CANNOT;
        int status = DONE;
        if (page.kind == DICTIONARY)
            status = page.values < 0 ? CANNOT : dictionary(work, &page, in.at);
        else if (page.kind == DATA || page.kind == DATA_2)
            status = page.values < 0 ? CANNOT : data(work, &page, in.at);
        else if (page.kind != INDEX)
            return CANNOT;
        if (status != DONE)
            return status;
        in.at += page.packed;
    }
    if (column->kind == TEXTS) {
        if (work->used > INT32_MAX)
            return CANNOT;
        ((int32_t *)column->edges)[column->rows] = (int32_t)work->used;
        column->bytes = work->used;
        if (work->used > column->room)
            return MORE_ROOM;
    } else if (column->kind == CODES && !column->entries) {
        return CANNOT;
    }
    if (column->nulls)
        pack(work->there, column->rows, (uint8_t *)column->valid, 0);
    return DONE;
}

/* Whether all bytes of a column's chunk could be read. */
static int whole(int32_t file, const Column *column, uint8_t *chunk) {
    int64_t got = 0;
    while (chunk && got < column->size) {
        int64_t some = (int64_t)pread(file, chunk + got, (size_t)(column->size - got), column->offset + got);
        if (some <= 0)
            return 0;
        got += some;
    }
    return chunk != 0;
}

/* Columns of a row group of an open file; what came of each is told in it. */
void oak_read_columns(int32_t file, Column *columns, int64_t count) {
    Rooms rooms = {.chunk = {0, 0}};
    tags_of(rooms.tags);
    for (Column *column = columns; column < columns + count; column++) {
        column->nulls = column->bytes = column->entries = 0;
        column->finite = 1;
        uint8_t *chunk = room_for(&rooms.chunk, column->size), *there = room_for(&rooms.there, column->rows);
        Work work = {column, &rooms, chunk, 0, 0, 0, 0, there, 0};
        column->status = there && whole(file, column, chunk) ? pages(&work) : CANNOT;
    }
    free(rooms.chunk.at);
    free(rooms.dictionary.at);
    free(rooms.page.at);
    free(rooms.there.at);
    free(rooms.begins.at);
}
