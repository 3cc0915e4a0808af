/* Integer expressions of the source language: C's operators on 64-bit unsigned numbers. */
#include "tree/source_internal.h"

#include <string.h>

static bool ternary(struct mos_dts *d, uint64_t *value);

static const struct {
    const char *sign;
    int rank; /* higher binds tighter */
} operators[] = {
    /* the longer of two that begin alike comes first */
    {"||", 1}, {"&&", 2}, {"==", 6}, {"!=", 6}, {"<=", 7}, {">=", 7},
    {"<<", 8}, {">>", 8}, {"|", 3},  {"^", 4},  {"&", 5},  {"<", 7},
    {">", 7},  {"+", 9},  {"-", 9},  {"*", 10}, {"/", 10}, {"%", 10},
};

static int next_operator(struct mos_dts *d) {
    if (mos_dts_peek(d) < 0)
        return -1;
    const struct mos_source *s = d->text->source;
    for (size_t i = 0; i < sizeof operators / sizeof *operators; i++) {
        size_t n = strlen(operators[i].sign);
        if (s->length - d->text->at >= n &&
            memcmp(s->text + d->text->at, operators[i].sign, n) == 0)
            return (int)i;
    }
    return -1;
}

static bool apply(struct mos_dts *d, int op, size_t at, uint64_t a, uint64_t b, uint64_t *out) {
    const char *sign = operators[op].sign;
    if ((*sign == '/' || *sign == '%') && b == 0)
        return mos_dts_fail(d, at, 1, NULL, "This divides by zero.");
    switch (sign[0] << 8 | sign[1]) {
    case '|' << 8 | '|':
        *out = a || b;
        break;
    case '&' << 8 | '&':
        *out = a && b;
        break;
    case '=' << 8 | '=':
        *out = a == b;
        break;
    case '!' << 8 | '=':
        *out = a != b;
        break;
    case '<' << 8 | '=':
        *out = a <= b;
        break;
    case '>' << 8 | '=':
        *out = a >= b;
        break;
    case '<' << 8 | '<':
        *out = b < 64 ? a << b : 0;
        break;
    case '>' << 8 | '>':
        *out = b < 64 ? a >> b : 0;
        break;
    case '|' << 8:
        *out = a | b;
        break;
    case '^' << 8:
        *out = a ^ b;
        break;
    case '&' << 8:
        *out = a & b;
        break;
    case '<' << 8:
        *out = a < b;
        break;
    case '>' << 8:
        *out = a > b;
        break;
    case '+' << 8:
        *out = a + b;
        break;
    case '-' << 8:
        *out = a - b;
        break;
    case '*' << 8:
        *out = a * b;
        break;
    case '/' << 8:
        *out = a / b;
        break;
    default:
        *out = a % b;
        break;
    }
    return true;
}

static bool unary(struct mos_dts *d, uint64_t *value) {
    int c = mos_dts_peek(d);
    if (c == '-' || c == '~' || c == '!') {
        d->text->at++;
        if (++d->depth > MOS_DTS_DEPTH)
            return mos_dts_fail(d, d->text->at - 1, 1, NULL, "This expression is nested too deep.");
        bool ok = unary(d, value);
        d->depth--;
        *value = c == '-' ? 0 - *value : c == '~' ? ~*value : !*value;
        return ok;
    }
    if (c == '(') {
        d->text->at++;
        return ternary(d, value) && mos_dts_expect(d, ")", "an expression");
    }
    if (mos_dts_number(d, value))
        return true;
    return mos_dts_fail(d, d->text->at, 1, NULL, "Expected a number here.");
}

static bool binary(struct mos_dts *d, int least, uint64_t *value) {
    if (!unary(d, value))
        return false;
    for (;;) {
        int op = next_operator(d);
        if (op < 0 || operators[op].rank < least)
            return !d->failed;
        size_t at = d->text->at;
        d->text->at += strlen(operators[op].sign);
        uint64_t right = 0;
        if (!binary(d, operators[op].rank + 1, &right) || !apply(d, op, at, *value, right, value))
            return false;
    }
}

static bool ternary(struct mos_dts *d, uint64_t *value) {
    if (++d->depth > MOS_DTS_DEPTH)
        return mos_dts_fail(d, d->text->at, 1, NULL, "This expression is nested too deep.");
    bool ok = binary(d, 1, value);
    if (ok && mos_dts_accept(d, "?")) {
        uint64_t yes = 0, no = 0;
        ok = ternary(d, &yes) && mos_dts_expect(d, ":", "?") && ternary(d, &no);
        *value = *value ? yes : no;
    }
    d->depth--;
    return ok;
}

bool mos_dts_cell_value(struct mos_dts *d, uint64_t *value) {
    *value = 0;
    if (mos_dts_accept(d, "("))
        return ternary(d, value) && mos_dts_expect(d, ")", "an expression");
    if (mos_dts_number(d, value))
        return true;
    return mos_dts_fail(d, d->text->at, 1,
                        "Write a number, a 'character', a &reference or an (expression).",
                        "This is no cell.");
}
