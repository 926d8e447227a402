/* Arrow's bitmaps, eight at a time; numbers of any width. */
#ifndef OAK_BITS_H
#define OAK_BITS_H

#include <stdint.h>
#include <string.h>

/* Eight bits as eight bytes of 0 or 1; the lowest bit comes first. */
static inline uint64_t spread(uint8_t bits) {
    uint64_t each = (bits * 0x0101010101010101ULL) & 0x8040201008040201ULL;
    return ((each + 0x7f7f7f7f7f7f7f7fULL) >> 7) & 0x0101010101010101ULL;
}

/* Eight bytes of 0 or 1 as eight bits. */
static inline uint8_t packed(uint64_t bytes) {
    return (uint8_t)((bytes * 0x0102040810204080ULL) >> 56);
}

static inline int bit_at(const uint8_t *bits, int64_t at) {
    return (bits[at >> 3] >> (at & 7)) & 1;
}

/* `size` bits from bit `at` on as bytes; `out` has room for a multiple of eight. */
static inline void unpack(const uint8_t *bits, int64_t at, int64_t size, uint8_t *out) {
    int64_t i = 0;
    int shift = (int)(at & 7);
    const uint8_t *from = bits + (at >> 3);
    for (; i + 8 <= size; i += 8, from++) {
        uint8_t byte = shift ? (uint8_t)((from[0] >> shift) | (from[1] << (8 - shift))) : from[0];
        uint64_t bytes = spread(byte);
        memcpy(out + i, &bytes, 8);
    }
    for (; i < size; i++)
        out[i] = (uint8_t)bit_at(bits, at + i);
}

/* `size` bytes of 0 or 1 as bits, from a whole byte of `out` on; `flip` turns them round. */
static inline void pack(const uint8_t *bytes, int64_t size, uint8_t *out, int flip) {
    uint64_t turn = flip ? 0x0101010101010101ULL : 0;
    int64_t i = 0;
    for (; i + 8 <= size; i += 8) {
        uint64_t eight;
        memcpy(&eight, bytes + i, 8);
        out[i >> 3] = packed(eight ^ turn);
    }
    if (i < size) {
        uint64_t eight = 0;
        memcpy(&eight, bytes + i, (size_t)(size - i));
        out[i >> 3] = packed(eight ^ turn);
    }
}

/* Whether so many bytes from here on can be read, also those that are no one's: they lie in the same page. */
static inline int readable(const void *at, uintptr_t bytes) {
    return ((uintptr_t)at & 4095) <= 4096 - bytes;
}

/* One of several whole numbers of so many bytes. */
static inline int64_t row_at(const void *rows, int32_t width, int64_t at) {
    switch (width) {
    case 1: return ((const int8_t *)rows)[at];
    case 2: return ((const int16_t *)rows)[at];
    case 4: return ((const int32_t *)rows)[at];
    default: return ((const int64_t *)rows)[at];
    }
}

#endif
