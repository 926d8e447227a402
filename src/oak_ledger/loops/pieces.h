/* Stretches of rows, some rows at a time. */
#ifndef OAK_PIECES_H
#define OAK_PIECES_H

#include "bits.h"

/* A stretch of rows: the group of each, in so many bytes (`of`), and whole numbers or other words in so many (`each`), which are there where
 * the bits say so. */
typedef struct { int64_t rows, codes, of, values, each, valid, offset; } Piece;

#define BLOCK 1024

/* Where values are there, as bytes, for up to BLOCK rows from `at` on. */
static inline const uint8_t *present(const uint8_t *valid, int64_t at, int64_t n, uint8_t *room) {
    if (!valid)
        return 0;
    unpack(valid, at, n, room);
    return room;
}

/* Numbers of so many bytes as words, up to BLOCK from `at` on: as they are, or in `room`. Groups have no sign. */
static inline const int64_t *widened(const void *from, int64_t width, int groups, int64_t at, int64_t n, int64_t *room) {
#define WIDEN(type) for (int64_t i = 0; i < n; i++) room[i] = ((const type *)from)[at + i]
    if (width == 8)
        return (const int64_t *)from + at;
    if (width == 4) {
        if (groups) WIDEN(uint32_t);
        else WIDEN(int32_t);
    } else if (width == 2) {
        WIDEN(uint16_t);
    } else {
        WIDEN(uint8_t);
    }
#undef WIDEN
    return room;
}

#endif
