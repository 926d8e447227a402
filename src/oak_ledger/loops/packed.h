/* What is packed: whole numbers of any length, stretches packed by Snappy, runs of equal numbers, numbers of few bits. No byte is taken for
 * granted: every length is held against what is there. SLACK bytes may be read or written beyond what is asked for. */
#ifndef OAK_PACKED_H
#define OAK_PACKED_H

#include "bits.h"

#define SLACK 64

/* -- numbers of any length -------------------------------------------------------------------------------------------------- */

typedef struct { const uint8_t *at, *end; int bad; } In;

static uint64_t varint(In *in) {
    uint64_t made = 0;
    for (int shift = 0; shift < 64 && in->at < in->end; shift += 7) {
        uint8_t byte = *in->at++;
        made |= (uint64_t)(byte & 127) << shift;
        if (!(byte & 128))
            return made;
    }
    in->bad = 1;
    return 0;
}

/* -- Snappy -------------------------------------------------------------------------------------------------------------- */

/* `length` bytes that stand `back` before, which may be among them; up to SLACK bytes may be written in any case. */
static inline void again(uint8_t *to, int64_t back, int64_t length) {
    const uint8_t *from = to - back;
    if (back >= 16) {
        memcpy(to, from, 16);
        for (int64_t i = 16; i < length; i += 16) memcpy(to + i, from + i, 16);
    } else if (back >= 8) {
        for (int64_t i = 0; i < length; i += 8) memcpy(to + i, from + i, 8);
    } else {
        for (int64_t i = 0; i < length; i++) to[i] = from[i];
    }
}

/* What a tag says, whatever it stands for: how many bytes come out, how many it and what belongs to it take, and what is added to how far back
 * they stand (for bytes as they are, NEAREST). */
typedef struct { uint8_t length, step; uint16_t back; } Tag;
enum { NEAREST = 8, SHORT = 16 };

static void tags_of(Tag *tags) {
    for (int tag = 0; tag < 256; tag++) {
        int kind = tag & 3, length = kind == 1 ? 4 + ((tag >> 2) & 7) : (tag >> 2) + 1;
        int step = kind == 0 ? 1 + length : kind == 3 ? 5 : 1 + kind;
        tags[tag] = (Tag){(uint8_t)length, (uint8_t)step, (uint16_t)(kind == 0 ? NEAREST : kind == 1 ? tag >> 5 << 8 : 0)};
    }
}

/* The `want` bytes that a packed stretch stands for, with room for SLACK more behind both; 0 where it does not give just these. */
static int unsnapped(const Tag *tags, const uint8_t *packed, int64_t size, uint8_t *out, int64_t want) {
    static const uint32_t masks[4] = {0, 0xff, 0xffff, 0xffffffff};
    In in = {packed, packed + size, 0};
    if (varint(&in) != (uint64_t)want || in.bad)
        return 0;
    const uint8_t *at = in.at;
    uint8_t *to = out, *end = out + want;
    while (at < in.end) {
        /* Most are short, and not copied from too near: they take the same steps of both kinds, since which comes next cannot be foreseen. */
        while (in.end - at > SLACK && end - to > SLACK && to - out >= NEAREST) {
            uint32_t tag = *at, word;
            memcpy(&word, at + 1, 4);
            uint64_t length = tags[tag].length, back = tags[tag].back + (uint64_t)(word & masks[tag & 3]);
            if (length > SHORT || (tag & 3) == 3 || back - NEAREST > (uint64_t)(to - out - NEAREST))
                break;
            const uint8_t *from = tag & 3 ? to - back : at + 1;
            memcpy(to, from, 8);
            memcpy(to + 8, from + 8, 8);
            at += tag & 3 ? (tag & 3) + 1 : (tag >> 2) + 2; /* as `step`, which would come later: the next tag waits for this alone */
            to += length;
        }
        uint8_t tag = *at++;
        int kind = tag & 3;
        int64_t length = tags[tag].length;
        uint32_t word; /* what follows, at most four bytes of it; SLACK stands behind the last */
        memcpy(&word, at, 4);
        if (!kind) {
            if (length > 60) {
                int more = (int)length - 60;
                length = (int64_t)(word & (uint32_t)(0xffffffffULL >> (32 - 8 * more))) + 1;
                at += more;
            }
            if (in.end - at < length || end - to < length)
                return 0;
            memcpy(to, at, (size_t)length);
            at += length;
        } else {
            int64_t back = (int64_t)tags[tag].back + (word & masks[kind]);
            at += tags[tag].step - 1;
            if (!back || back > to - out || end - to < length || at > in.end)
                return 0;
            again(to, back, length);
        }
        to += length;
    }
    return to == end;
}

/* -- runs of equal numbers, and numbers of few bits ------------------------------------------------------------------------ */

typedef struct { In in; int width; int64_t left, taken; int packed; uint32_t value; const uint8_t *begin; } Runs;

/* Eight numbers of so many bits after the other, from whole bytes on: `eights` times. As many as one word holds are taken from it. */
#define PART(bits, first, count) {                                                                          \
        uint64_t word;                                                                                      \
        memcpy(&word, from + ((first) * (bits) >> 3), 8);                                                   \
        word >>= (first) * (bits) & 7;                                                                      \
        for (int i = 0; i < count; i++) out[first + i] = (uint32_t)(word >> (i * (bits)) & ((1ULL << (bits)) - 1)); \
    }
#define ONCE(bits) PART(bits, 0, 8)
#define TWICE(bits) PART(bits, 0, 4) PART(bits, 4, 4)
#define BY_TWO(bits) PART(bits, 0, 2) PART(bits, 2, 2) PART(bits, 4, 2) PART(bits, 6, 2)
#define BY_ONE(bits) for (int at = 0; at < 8; at++) PART(bits, at, 1)
#define AGAIN(how, bits) for (; eights > 0; eights--, from += (bits), out += 8) { how(bits) }
#define EIGHT(how, bits) case bits: AGAIN(how, bits) break;
static void eight(const uint8_t *from, int width, int64_t eights, uint32_t *out) {
    switch (width) {
    EIGHT(ONCE, 1) EIGHT(ONCE, 2) EIGHT(ONCE, 3) EIGHT(ONCE, 4) EIGHT(ONCE, 5) EIGHT(ONCE, 6) EIGHT(ONCE, 7) EIGHT(ONCE, 8)
    EIGHT(TWICE, 9) EIGHT(TWICE, 10) EIGHT(TWICE, 11) EIGHT(TWICE, 12) EIGHT(TWICE, 13) EIGHT(TWICE, 14) EIGHT(TWICE, 15) EIGHT(TWICE, 16)
    EIGHT(BY_TWO, 17) EIGHT(BY_TWO, 18) EIGHT(BY_TWO, 19) EIGHT(BY_TWO, 20) EIGHT(BY_TWO, 21) EIGHT(BY_TWO, 22) EIGHT(BY_TWO, 23)
    EIGHT(BY_TWO, 24)
    default: AGAIN(BY_ONE, width)
    }
}

/* The next run; 0 where there is none. */
static int next_run(Runs *runs) {
    uint64_t head = varint(&runs->in);
    if (runs->in.bad || head >> 33)
        return 0;
    runs->packed = head & 1;
    runs->taken = 0;
    runs->begin = runs->in.at;
    if (runs->packed) {
        uint64_t bytes = (head >> 1) * (uint64_t)runs->width, there = (uint64_t)(runs->in.end - runs->in.at);
        runs->left = (int64_t)(head >> 1) * 8;
        if (bytes > there) { /* the last run may break off where no number is left */
            bytes = there;
            runs->left = runs->width ? (int64_t)(there * 8 / (uint64_t)runs->width) : runs->left;
        }
        runs->in.at += bytes;
        return 1;
    }
    int bytes = (runs->width + 7) / 8;
    runs->left = (int64_t)(head >> 1);
    if (runs->in.end - runs->in.at < bytes)
        return 0;
    runs->value = 0;
    for (int i = 0; i < bytes; i++) runs->value |= (uint32_t)runs->in.at[i] << (8 * i);
    runs->in.at += bytes;
    return 1;
}

/* `want` numbers, at most BLOCK; `out` has room for eight more. 0 where there are not so many. */
static int take(Runs *runs, int64_t want, uint32_t *out) {
    for (int64_t done = 0; done < want;) {
        if (!runs->left) {
            if (!next_run(runs))
                return 0;
            continue;
        }
        int64_t n = want - done < runs->left ? want - done : runs->left;
        if (!runs->packed) {
            for (int64_t i = 0; i < n; i++) out[done + i] = runs->value;
        } else if (!runs->width) {
            memset(out + done, 0, (size_t)n * 4);
        } else {
            int64_t i = 0;
            if (runs->taken & 7) { /* what is left of eight that were begun */
                uint32_t some[8];
                int begun = (int)(runs->taken & 7);
                eight(runs->begin + runs->taken / 8 * runs->width, runs->width, 1, some);
                for (; i < n && begun + i < 8; i++) out[done + i] = some[begun + i];
            }
            const uint8_t *from = runs->begin + (runs->taken + i) / 8 * runs->width;
            if (i < n)
                eight(from, runs->width, (n - i + 7) / 8, out + done + i);
            runs->taken += n;
        }
        runs->left -= n;
        done += n;
    }
    return 1;
}

/* Pass over so many numbers; 0 where there are not so many. */
static int leave(Runs *runs, int64_t count) {
    while (count) {
        if (!runs->left) {
            if (!next_run(runs))
                return 0;
            continue;
        }
        int64_t n = count < runs->left ? count : runs->left;
        runs->taken += n;
        runs->left -= n;
        count -= n;
    }
    return 1;
}

#endif
