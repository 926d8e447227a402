/* The headers of a Parquet file's pages, as the format's specification says. No byte is taken for granted. */
#ifndef OAK_PAGES_H
#define OAK_PAGES_H

#include "packed.h"

enum { DATA = 0, INDEX = 1, DICTIONARY = 2, DATA_2 = 3 }; /* kinds of pages */
enum { PLAIN = 0, PLAIN_DICTIONARY = 2, RUN_LENGTHS = 3, BY_DICTIONARY = 8 };

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
            for (int64_t at = 0; at < n / 8; at++) count += __builtin_popcount(in.at[at]);
            count += n % 8 ? __builtin_popcount(in.at[n / 8] & ((1 << n % 8) - 1)) : 0;
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

#endif
