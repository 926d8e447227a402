/* Texts read as numbers. Only what is plain is read here: digits, maybe a minus before and a point among them, no more than 18 digits in all. */
#include "looks.h"

static const int64_t TENS[19] = {
    1, 10, 100, 1000, 10000, 100000, 1000000, 10000000, 100000000, 1000000000, 10000000000, 100000000000, 1000000000000, 10000000000000,
    100000000000000, 1000000000000000, 10000000000000000, 100000000000000000, 1000000000000000000,
};

typedef struct { int64_t digits; uint32_t before, after, minus, marked; } Plain;

/* Up to eight digits as a number: of two, then of four, then of eight at a time. */
static inline int64_t up_to_eight(const uint8_t *digits, uint32_t count) {
    uint64_t word;
    memcpy(&word, digits, 8);
    word = count ? (word ^ 0x3030303030303030ULL) << (64 - 8 * count) : 0; /* the last one in the highest byte */
    word = word * 10 + (word >> 8);
    return (int64_t)(((word & 0x000000ff000000ffULL) * 0x000f424000000064ULL + ((word >> 16) & 0x000000ff000000ffULL) * 0x0000271000000001ULL) >> 32);
}

static int64_t of_any_length(const uint8_t *digits, uint32_t count) {
    int64_t made = 0;
    for (uint32_t i = 0; i < count; i++) made = made * 10 + (digits[i] - '0');
    return made;
}

/* What a text says; 0 where it is not plain. */
static inline int read_plain(Text one, Plain *made) {
    uint8_t some[32] = {0};
    if (one.size < 1 || one.size > 20)
        return 0;
    if (!readable(one.data, 32)) {
        memcpy(some, one.data, (size_t)one.size);
        one.data = some;
    }
    Thirty bytes;
    memcpy(&bytes, one.data, 32);
    uint32_t size = (uint32_t)one.size, minus = one.data[0] == '-', at = size, after = 0;
    uint32_t marks = no_digits(bytes) & ((1U << size) - 1) & ~minus;
    if (marks) {
        at = (uint32_t)__builtin_ctz(marks);
        after = size - 1 - at;
        if ((marks & (marks - 1)) || one.data[at] != '.')
            return 0;
    }
    uint32_t before = at - minus;
    if (before + after < 1 || before + after > 18)
        return 0;
    const uint8_t *whole = one.data + minus, *rest = one.data + at + 1;
    int64_t upper = before <= 8 ? up_to_eight(whole, before) : of_any_length(whole, before);
    int64_t lower = after <= 8 ? up_to_eight(rest, after) : of_any_length(rest, after);
    *made = (Plain){upper * TENS[after] + lower, before, after, minus, marks != 0};
    return 1;
}

/* Texts as whole numbers, times ten to the `scale`; 0 where a text is null. With a `step` of 2 as decimals' pairs, with one of 1 only from texts
 * without a point. Returns the largest without its sign, or -1 where a text is not plain, has more decimals, or takes more than 18 digits. */
int64_t oak_read_wholes(int64_t rows, const int32_t *edges, const uint8_t *data, const uint8_t *valid, int64_t offset, int32_t scale, int32_t step,
                        int64_t *out) {
    int64_t most = 0;
    for (int64_t i = 0; i < rows; i++) {
        Plain one = {0};
        if (!valid || bit_at(valid, offset + i)) {
            if (!read_plain((Text){data + edges[i], edges[i + 1] - edges[i]}, &one))
                return -1;
            if (one.after > (uint32_t)scale || one.before + (uint32_t)scale > 18 || (step == 1 && one.marked))
                return -1;
            one.digits *= TENS[(uint32_t)scale - one.after];
            most = one.digits > most ? one.digits : most;
        }
        int64_t made = one.minus ? -one.digits : one.digits;
        out[i * step] = made;
        if (step == 2)
            out[2 * i + 1] = made >> 63;
    }
    return most;
}

/* Texts as floats, each the nearest one: both parts of a fraction are exact. 0 where a text is null. Returns 0 where one is not plain, or has
 * too many digits for that, and 1 else. */
int32_t oak_read_floats(int64_t rows, const int32_t *edges, const uint8_t *data, const uint8_t *valid, int64_t offset, double *out) {
    for (int64_t i = 0; i < rows; i++) {
        Plain one = {0};
        if ((!valid || bit_at(valid, offset + i)) && (!read_plain((Text){data + edges[i], edges[i + 1] - edges[i]}, &one) || one.digits >> 53))
            return 0;
        double made = (double)one.digits / (double)TENS[one.after];
        out[i] = one.minus ? -made : made;
    }
    return 1;
}
