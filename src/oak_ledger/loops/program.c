/* A tree of operators over columns, block by block.
 *
 * Each step reads registers and writes one. A register is a block of values with a byte for each that says whether it is null,
 * and, where something went wrong, a byte for each that says so. A choice takes over only what went wrong in the value that it takes.
 * If anything went wrong that counts, nothing is given: the caller computes step by step, and tells of each fault.
 */
#include <float.h>
#include <stdio.h>
#include <stdlib.h>

#include "bits.h"

#define BLOCK 1024
#define EACH for (int64_t i = 0; i < n; i++)
#define SAFE _Pragma("clang loop vectorize(assume_safety)")

enum leaf_kind { FLOAT = 0, WHOLE = 1, DAYS = 2, TRUTH = 3, PAIRS = 4, SMALL = 5 };

enum operation {
    ADD_F, SUB_F, MUL_F, DIV_F, NEG_F, ABS_F,
    ADD_I, SUB_I, MUL_I, NEG_I, ABS_I,
    WHOLE_TO_FLOAT, SCALE_UP,
    EQ_F, NE_F, LT_F, LE_F, EQ_I, NE_I, LT_I, LE_I,
    AND, OR, NOT, IS_NULL, IS_TRUE, IS_FALSE,
    SELECT, SELECT_T, COALESCE, COALESCE_T, NULLIF_F, NULLIF_I, MAX_F, MIN_F, MAX_I, MIN_I, ROUND_F, TRUNC_F
};

typedef struct {
    union { const double *f; const int64_t *i; const void *any; };
    const uint8_t *t;
    double *own;      /* room for values */
    uint8_t *truth;   /* room for true and false */
    uint8_t *null;
    uint8_t *bad;
    int has_null, has_bad;
} Register;

static const uint8_t none[BLOCK] = {0}; /* for what has no nulls, or nothing wrong */

typedef struct { int32_t op, out, a, b, c; } Step;
typedef struct { int64_t values, valid, offset, kind; } Leaf;
typedef struct { int64_t bits, null, truth; } Constant;

/* Mark what is not null and failed; `wrong` holds a byte for each value. */
static void mark(Register *out, const uint8_t *wrong, int64_t n) {
    const uint8_t *null = out->has_null ? out->null : none;
    uint8_t *bad = out->bad, any = 0;
    if (!out->has_bad)
        memset(bad, 0, (size_t)n);
    SAFE EACH {
        uint8_t one = wrong[i] & (null[i] ^ 1);
        bad[i] |= one;
        any |= one;
    }
    out->has_bad |= any;
}

/* Null and wrong where an operand is. */
static void join(Register *out, const Register *a, const Register *b, int64_t n) {
    int null = a->has_null | b->has_null, bad = a->has_bad | b->has_bad;
    if (null) {
        if (a->has_null && b->has_null) { SAFE EACH out->null[i] = a->null[i] | b->null[i]; }
        else if (out != a || !a->has_null) memmove(out->null, a->has_null ? a->null : b->null, (size_t)n);
    }
    if (bad) {
        if (a->has_bad && b->has_bad) { SAFE EACH out->bad[i] = a->bad[i] | b->bad[i]; }
        else memmove(out->bad, a->has_bad ? a->bad : b->bad, (size_t)n);
    }
    out->has_null = null;
    out->has_bad = bad;
}

/* Wrong where an operand is; for steps that make nulls of their own. */
static void join_bad(Register *out, const Register *a, const Register *b, int64_t n) {
    int null = out->has_null;
    Register x = *a, y = *b;
    x.has_null = y.has_null = 0;
    join(out, &x, &y, n);
    out->has_null = null;
}

static void mark_infinite(Register *out, const double *made, int64_t n) {
    uint8_t wrong[BLOCK];
    SAFE EACH wrong[i] = !(__builtin_fabs(made[i]) <= DBL_MAX);
    mark(out, wrong, n);
}

#define FLOATS(expression)                                             \
    do {                                                               \
        const double *x = a->f, *y = b->f;                             \
        double *made = out->own;                                       \
        (void)y;                                                       \
        int64_t any = 0;                                               \
        SAFE EACH {                                                    \
            double r = expression;                                     \
            any |= -(int64_t)!(__builtin_fabs(r) <= DBL_MAX);          \
            made[i] = r;                                               \
        }                                                              \
        join(out, a, b, n);                                            \
        if (any) mark_infinite(out, made, n);                          \
        out->f = made;                                                 \
    } while (0)

/* Whole numbers: `made` wraps, `lost` has its sign bit where it did. */
#define WHOLES(made_by, lost_where)                                    \
    do {                                                               \
        const int64_t *x = a->i, *y = b->i;                            \
        int64_t *made = (int64_t *)out->own, any = 0;                  \
        uint8_t wrong[BLOCK];                                          \
        SAFE EACH {                                                    \
            int64_t p = x[i], q = y[i], r = (int64_t)(made_by);        \
            (void)q;                                                   \
            any |= (lost_where);                                       \
            wrong[i] = (uint8_t)((uint64_t)(lost_where) >> 63);        \
            made[i] = r;                                               \
        }                                                              \
        join(out, a, b, n);                                            \
        if (any < 0) mark(out, wrong, n);                              \
        out->i = made;                                                 \
    } while (0)

#define COMPARE(type, member, sign)                                    \
    do {                                                               \
        const type *x = a->member, *y = b->member;                     \
        uint8_t *made = out->truth;                                    \
        SAFE EACH made[i] = x[i] sign y[i];                            \
        join(out, a, b, n);                                            \
        out->t = made;                                                 \
    } while (0)

static void times(Register *out, const Register *a, const Register *b, int64_t n) {
    const int64_t *x = a->i, *y = b->i;
    int64_t *made = (int64_t *)out->own;
    uint8_t wrong[BLOCK];
    int any = 0;
    EACH {
        long long r;
        int lost = __builtin_mul_overflow((long long)x[i], (long long)y[i], &r);
        made[i] = r;
        wrong[i] = (uint8_t)lost;
        any |= lost;
    }
    join(out, a, b, n);
    if (any) mark(out, wrong, n);
    out->i = made;
}

/* Whole numbers over a unit, as floats: exact below 2^53, else wrong. */
static void to_float(Register *out, const Register *a, const Register *b, int64_t n) {
    const int64_t *x = a->i;
    const double *unit = b->f;
    double *made = out->own;
    int64_t limit = (int64_t)1 << 53, any = 0;
    uint8_t wrong[BLOCK];
    SAFE EACH {
        int64_t p = x[i];
        any |= (limit - p) | (limit + p);
        wrong[i] = (uint8_t)((uint64_t)((limit - p) | (limit + p)) >> 63);
        made[i] = (double)p / unit[i];
    }
    join(out, a, b, n);
    if (any < 0) mark(out, wrong, n);
    out->f = made;
}

/* Whole numbers times `more`, wrong from `most` (the third operand) on. */
static void scale_up(Register *out, const Register *a, const Register *b, const Register *most, int64_t n) {
    times(out, a, b, n);
    const int64_t *made = out->i;
    uint8_t wrong[BLOCK];
    int any = 0;
    EACH any |= wrong[i] = made[i] >= most->i[i] || made[i] <= -most->i[i];
    if (any) mark(out, wrong, n);
}

static void both(Register *out, const Register *a, const Register *b, int64_t n, int either) {
    const uint8_t *p = a->t, *q = b->t;
    uint8_t *made = out->truth;
    if (!a->has_null && !b->has_null) {
        if (either) { SAFE EACH made[i] = p[i] | q[i]; }
        else { SAFE EACH made[i] = p[i] & q[i]; }
        join(out, a, b, n);
        out->t = made;
        return;
    }
    const uint8_t *u = a->has_null ? a->null : none, *v = b->has_null ? b->null : none;
    uint8_t null[BLOCK];
    uint8_t turn = !either; /* AND is OR of what is turned round, turned round */
    SAFE EACH {
        uint8_t settled = ((p[i] ^ turn) & (u[i] ^ 1)) | ((q[i] ^ turn) & (v[i] ^ 1));
        null[i] = (u[i] | v[i]) & (settled ^ 1);
        made[i] = settled ^ turn;
    }
    join_bad(out, a, b, n);
    memcpy(out->null, null, (size_t)n);
    out->has_null = 1;
    out->t = made;
}

/* One of two, without a branch: `take` is 0 or 1. */
#define PICK(type, take, x, y) ((type)((y) ^ (((x) ^ (y)) & -(type)(take))))

static void choose(Register *out, const Register *when, const Register *a, const Register *b, int64_t n, int truths) {
    uint8_t take[BLOCK];
    if (when->has_null) { SAFE EACH take[i] = when->t[i] & (when->null[i] ^ 1); }
    else memcpy(take, when->t, (size_t)n);
    int bad = when->has_bad | a->has_bad | b->has_bad;
    if (bad) {
        const uint8_t *u = a->has_bad ? a->bad : none, *v = b->has_bad ? b->bad : none, *w = when->has_bad ? when->bad : none;
        SAFE EACH out->bad[i] = PICK(uint8_t, take[i], u[i], v[i]) | w[i];
    }
    if (truths) {
        const uint8_t *x = a->t, *y = b->t;
        SAFE EACH out->truth[i] = PICK(uint8_t, take[i], x[i], y[i]);
        out->t = out->truth;
    } else {
        const int64_t *x = a->i, *y = b->i;
        int64_t *made = (int64_t *)out->own;
        SAFE EACH made[i] = PICK(int64_t, take[i], x[i], y[i]);
        out->i = made;
    }
    int null = a->has_null | b->has_null;
    if (null) {
        const uint8_t *u = a->has_null ? a->null : none, *v = b->has_null ? b->null : none;
        SAFE EACH out->null[i] = PICK(uint8_t, take[i], u[i], v[i]);
    }
    out->has_null = null;
    out->has_bad = bad;
}

/* The first of two that is there. */
static void coalesce(Register *out, const Register *a, const Register *b, int64_t n, int truths) {
    Register there = *a;
    uint8_t valid[BLOCK];
    if (a->has_null) { SAFE EACH valid[i] = a->null[i] ^ 1; }
    else memset(valid, 1, (size_t)n);
    there.t = valid;
    there.has_null = 0;
    Register x = *a, y = *b; /* both are computed for all rows: what is wrong in either counts */
    there.has_bad = a->has_bad | b->has_bad;
    uint8_t bad[BLOCK];
    const uint8_t *u = a->has_bad ? a->bad : none, *v = b->has_bad ? b->bad : none;
    if (there.has_bad) { SAFE EACH bad[i] = u[i] | v[i]; }
    there.bad = bad;
    x.has_bad = y.has_bad = 0;
    choose(out, &there, &x, &y, n, truths);
}

#define NULL_WHERE_EQUAL(member)                                       \
    do {                                                               \
        uint8_t null[BLOCK];                                           \
        const uint8_t *u = a->has_null ? a->null : none, *v = b->has_null ? b->null : none;                  \
        SAFE EACH null[i] = u[i] | ((v[i] ^ 1) & (a->member[i] == b->member[i]));                            \
        memmove(out->own, a->member, (size_t)n * 8);                   \
        join_bad(out, a, b, n);                                        \
        memcpy(out->null, null, (size_t)n);                            \
        out->has_null = 1;                                             \
        out->f = out->own;                                             \
    } while (0)

/* The larger or smaller of those that are there. */
#define BETTER(type, member, sign)                                     \
    do {                                                               \
        const type *x = a->member, *y = b->member;                     \
        type *made = (type *)out->own;                                 \
        uint8_t null[BLOCK];                                           \
        const uint8_t *u = a->has_null ? a->null : none, *v = b->has_null ? b->null : none;                  \
        SAFE EACH {                                                    \
            type p = x[i], q = y[i];                                   \
            made[i] = u[i] | ((v[i] ^ 1) & (q sign p)) ? q : p;        \
            null[i] = u[i] & v[i];                                     \
        }                                                              \
        join_bad(out, a, b, n);                                        \
        memcpy(out->null, null, (size_t)n);                            \
        out->has_null = a->has_null & b->has_null;                     \
        out->member = made;                                            \
    } while (0)

static double power_of_ten(int64_t n) {
    double made = 1;
    for (; n > 0; n--) made *= 10;
    return made;
}

/* A number as it reads in 15 significant digits, rounded half away from zero or cut off; as it is if it has no more digits. */
static double rounded(double value, int64_t digits, int up) {
    char text[32];
    snprintf(text, sizeof text, "%.14e", __builtin_fabs(value)); /* d.dddddddddddddde+XX */
    int64_t whole = text[0] - '0', exponent = strtol(text + 17, 0, 10), drop = 14 - exponent - digits;
    for (int i = 2; i < 16; i++) whole = whole * 10 + (text[i] - '0');
    if (drop <= 0)
        return value;
    if (drop > 15)
        return 0;
    int64_t unit = 1;
    for (int64_t at = 0; at < drop; at++) unit *= 10;
    double made = (double)((whole + (up ? unit / 2 : 0)) / unit);
    return __builtin_copysign(digits >= 0 ? made / power_of_ten(digits) : made * power_of_ten(-digits), value) + 0.0;
}

/* Rounded by scaling; and as it reads, where that is not sure: close to a tie, or very large. */
static void round_all(Register *out, const Register *a, int64_t digits, int up, int64_t n) {
    const double *x = a->f;
    double *made = out->own, unit = power_of_ten(digits < 0 ? -digits : digits), edge = up ? 0.5 : 1.0;
    uint8_t unsure[BLOCK];
    int any = 0;
    SAFE EACH {
        double size = __builtin_fabs(x[i]), scaled = digits >= 0 ? size * unit : size / unit, whole = __builtin_floor(scaled);
        double fraction = scaled - whole, close = (scaled > 1 ? scaled : 1) * 1e-14;
        int near = (__builtin_fabs(fraction - edge) <= close) | (!up & (fraction <= close)) | !(scaled < 1e13);
        whole += up & (fraction >= 0.5);
        any |= near;
        unsure[i] = (uint8_t)near;
        made[i] = near ? x[i] : __builtin_copysign(digits >= 0 ? whole / unit : whole * unit, x[i]) + 0.0;
    }
    if (any) {
        EACH if (unsure[i] && !(a->has_null && a->null[i])) made[i] = rounded(made[i], digits, up);
    }
    join(out, a, a, n);
    out->f = made;
}

static void step(const Step *one, Register *all, int64_t n) {
    Register *out = all + one->out;
    const Register *a = all + one->a, *b = all + one->b, *c = all + one->c;
    switch ((enum operation)one->op) {
    case ADD_F: FLOATS(x[i] + y[i]); break;
    case SUB_F: FLOATS(x[i] - y[i]); break;
    case MUL_F: FLOATS(x[i] * y[i]); break;
    case DIV_F: FLOATS(x[i] / y[i]); break;
    case NEG_F: FLOATS(-x[i]); break;
    case ABS_F: FLOATS(__builtin_fabs(x[i])); break;
    case ADD_I: WHOLES((uint64_t)p + (uint64_t)q, (p ^ r) & (q ^ r)); break;
    case SUB_I: WHOLES((uint64_t)p - (uint64_t)q, (p ^ q) & (p ^ r)); break;
    case NEG_I: WHOLES(0 - (uint64_t)p, p & r); break;
    case ABS_I: WHOLES(p < 0 ? 0 - (uint64_t)p : (uint64_t)p, r); break;
    case MUL_I: times(out, a, b, n); break;
    case WHOLE_TO_FLOAT: to_float(out, a, b, n); break;
    case SCALE_UP: scale_up(out, a, b, c, n); break;
    case EQ_F: COMPARE(double, f, ==); break;
    case NE_F: COMPARE(double, f, !=); break;
    case LT_F: COMPARE(double, f, <); break;
    case LE_F: COMPARE(double, f, <=); break;
    case EQ_I: COMPARE(int64_t, i, ==); break;
    case NE_I: COMPARE(int64_t, i, !=); break;
    case LT_I: COMPARE(int64_t, i, <); break;
    case LE_I: COMPARE(int64_t, i, <=); break;
    case AND: both(out, a, b, n, 0); break;
    case OR: both(out, a, b, n, 1); break;
    case NOT:
        EACH out->truth[i] = a->t[i] ^ 1;
        join(out, a, a, n);
        out->t = out->truth;
        break;
    case IS_NULL:
        if (a->has_null) memcpy(out->truth, a->null, (size_t)n);
        else memset(out->truth, 0, (size_t)n);
        join(out, a, a, n);
        out->has_null = 0;
        out->t = out->truth;
        break;
    case IS_TRUE:
    case IS_FALSE: {
        uint8_t turn = one->op == IS_FALSE;
        EACH out->truth[i] = (a->t[i] ^ turn) & (a->has_null ? a->null[i] ^ 1 : 1);
        join(out, a, a, n);
        out->has_null = 0;
        out->t = out->truth;
        break;
    }
    case SELECT: choose(out, a, b, c, n, 0); break;
    case SELECT_T: choose(out, a, b, c, n, 1); break;
    case COALESCE: coalesce(out, a, b, n, 0); break;
    case COALESCE_T: coalesce(out, a, b, n, 1); break;
    case NULLIF_F: NULL_WHERE_EQUAL(f); break;
    case NULLIF_I: NULL_WHERE_EQUAL(i); break;
    case MAX_F: BETTER(double, f, >); break;
    case MIN_F: BETTER(double, f, <); break;
    case MAX_I: BETTER(int64_t, i, >); break;
    case MIN_I: BETTER(int64_t, i, <); break;
    case ROUND_F: round_all(out, a, b->i[0], 1, n); break;
    case TRUNC_F: round_all(out, a, b->i[0], 0, n); break;
    }
}

/* The values of a column in this block; true where they cannot be held. */
static int load(const Leaf *leaf, Register *into, int64_t begin, int64_t n) {
    int64_t at = leaf->offset + begin;
    into->has_null = into->has_bad = 0;
    if (leaf->valid) {
        unpack((const uint8_t *)leaf->valid, at, n, into->null);
        int any = 0;
        SAFE EACH any |= into->null[i] ^= 1;
        into->has_null = any;
    }
    switch ((enum leaf_kind)leaf->kind) {
    case FLOAT: into->f = (const double *)leaf->values + at; break;
    case WHOLE: into->i = (const int64_t *)leaf->values + at; break;
    case DAYS: {
        const int32_t *from = (const int32_t *)leaf->values + at;
        int64_t *made = (int64_t *)into->own;
        SAFE EACH made[i] = from[i];
        into->i = made;
        break;
    }
    case TRUTH:
        unpack((const uint8_t *)leaf->values, at, n, into->truth);
        into->t = into->truth;
        break;
    case PAIRS: {
        const int64_t *from = (const int64_t *)leaf->values + 2 * at;
        int64_t *made = (int64_t *)into->own;
        EACH {
            if (from[2 * i + 1] != from[2 * i] >> 63 && !(into->has_null && into->null[i]))
                return 1;
            made[i] = from[2 * i];
        }
        into->i = made;
        break;
    }
    case SMALL: break;
    }
    return 0;
}

static void store(const Register *from, int64_t begin, int64_t n, int32_t kind, void *out, uint8_t *valid) {
    switch ((enum leaf_kind)kind) {
    case FLOAT:
    case WHOLE: memcpy((int64_t *)out + begin, from->any, (size_t)n * 8); break;
    case DAYS: {
        int32_t *to = (int32_t *)out + begin;
        SAFE EACH to[i] = (int32_t)from->i[i];
        break;
    }
    case SMALL: {
        int8_t *to = (int8_t *)out + begin;
        SAFE EACH to[i] = (int8_t)from->i[i];
        break;
    }
    case TRUTH: pack(from->t, n, (uint8_t *)out + begin / 8, 0); break;
    case PAIRS: {
        int64_t *to = (int64_t *)out + 2 * begin;
        EACH {
            to[2 * i] = from->i[i];
            to[2 * i + 1] = from->i[i] >> 63;
        }
        break;
    }
    }
    if (from->has_null) pack(from->null, n, valid + begin / 8, 1);
    else memset(valid + begin / 8, 0xff, (size_t)((n + 7) / 8));
}

static void keep(Register *into, const Constant *one) {
    for (int i = 0; i < BLOCK; i++) {
        memcpy((int64_t *)into->own + i, &one->bits, 8);
        into->truth[i] = (uint8_t)one->truth;
        into->null[i] = (uint8_t)one->null;
    }
    into->f = into->own;
    into->t = into->truth;
    into->has_null = one->null != 0;
    into->has_bad = 0;
}

/* Run a program over `rows` rows: leaves stand in the first registers, then constants, then what the steps write.
 * `alive` (a byte a row, or nothing) says where what goes wrong counts. `nulls` tells how many of the result are null.
 * Returns 0, 1 where something went wrong, 2 where there is no memory. */
int32_t oak_run(int64_t rows, const Leaf *leaves, int32_t leaf_count, const Constant *constants, int32_t constant_count,
                const Step *steps, int32_t step_count, int32_t registers, int32_t result, int32_t kind, void *out,
                uint8_t *valid, const uint8_t *alive, int64_t *nulls) {
    const size_t each = BLOCK * 8 + 3 * BLOCK;
    Register *all = calloc((size_t)registers, sizeof(Register));
    char *room = malloc((size_t)registers * each);
    int32_t told = all && room ? 0 : 2;
    *nulls = 0;
    for (int32_t at = 0; told == 0 && at < registers; at++) {
        char *own = room + (size_t)at * each;
        all[at].own = (double *)own;
        all[at].truth = (uint8_t *)own + BLOCK * 8;
        all[at].null = all[at].truth + BLOCK;
        all[at].bad = all[at].null + BLOCK;
        if (at >= leaf_count && at < leaf_count + constant_count)
            keep(all + at, constants + (at - leaf_count));
    }
    for (int64_t begin = 0; told == 0 && begin < rows; begin += BLOCK) {
        int64_t n = rows - begin < BLOCK ? rows - begin : BLOCK;
        for (int32_t at = 0; at < leaf_count && told == 0; at++)
            told = load(leaves + at, all + at, begin, n);
        for (int32_t at = 0; at < step_count && told == 0; at++)
            step(steps + at, all, n);
        const Register *made = all + result;
        if (told == 0 && made->has_bad) {
                uint8_t any = 0;
            if (alive) { SAFE EACH any |= made->bad[i] & alive[begin + i]; }
            else { SAFE EACH any |= made->bad[i]; }
            told = any;
        }
        if (told == 0) {
            int64_t missing = 0;
            if (made->has_null) { SAFE EACH missing += made->null[i]; }
            *nulls += missing;
            store(made, begin, n, kind, out, valid);
        }
    }
    free(room);
    free(all);
    return told;
}
