/* Stretches of rows, some rows at a time. */
#ifndef OAK_PIECES_H
#define OAK_PIECES_H

#include "bits.h"

/* A stretch of rows: the group of each, and words, which are there where the bits say so. */
typedef struct { int64_t rows, codes, values, valid, offset; } Piece;

#define BLOCK 1024

/* Where values are there, as bytes, for up to BLOCK rows from `at` on. */
static inline const uint8_t *present(const uint8_t *valid, int64_t at, int64_t n, uint8_t *room) {
    if (!valid)
        return 0;
    unpack(valid, at, n, room);
    return room;
}

#endif
