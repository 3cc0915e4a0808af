/* Integer expressions of tree sources and of #if: C's operators on numbers of 64 bits. */
#include "tree/cpp.h"

#include <string.h>

enum { DEEPEST = 64 };

struct number {
    uint64_t value;
    bool without_sign;
};

static bool ternary(struct mos_expression *e, struct number *n, bool counts);

static const struct {
    const char *sign;
    int rank; /* higher binds tighter */
} operators[] = {
    {"||", 1}, {"&&", 2}, {"==", 6}, {"!=", 6}, {"<=", 7}, {">=", 7},
    {"<<", 8}, {">>", 8}, {"|", 3},  {"^", 4},  {"&", 5},  {"<", 7},
    {">", 7},  {"+", 9},  {"-", 9},  {"*", 10}, {"/", 10}, {"%", 10},
};

static int next_operator(struct mos_expression *e) {
    const struct mos_cpp_token *t = e->peek(e->self);
    for (size_t i = 0; i < sizeof operators / sizeof *operators; i++)
        if (mos_cpp_is(t, operators[i].sign))
            return (int)i;
    return -1;
}

static bool negative(const struct number *n) {
    return !n->without_sign && n->value >> 63;
}

static uint64_t shifted(const struct number *a, bool left, const struct number *by) {
    uint64_t n = by->value;
    if (negative(by)) { /* the other way round */
        n = 0 - n;
        left = !left;
    }
    if (left)
        return n < 64 ? a->value << n : 0;
    uint64_t fill = negative(a) && n ? (n < 64 ? ~(UINT64_MAX >> n) : UINT64_MAX) : 0;
    return (n < 64 ? a->value >> n : 0) | fill;
}

static uint64_t quotient(const struct number *a, const struct number *b, bool rest) {
    bool minus_a = negative(a), minus_b = negative(b);
    uint64_t x = minus_a ? 0 - a->value : a->value, y = minus_b ? 0 - b->value : b->value;
    uint64_t result = rest ? x % y : x / y;
    return (rest ? minus_a : minus_a != minus_b) ? 0 - result : result;
}

static bool less(const struct number *a, const struct number *b) {
    if (negative(a) != negative(b))
        return negative(a);
    return a->value < b->value;
}

/* a OP b; false after a complaint. */
static bool apply(struct mos_expression *e, int op, struct number *a, struct number b,
                  bool counts) {
    const char *sign = operators[op].sign;
    bool truth = strchr("<>=!&|", *sign) && sign[1] && sign[0] != '<' && sign[0] != '>';
    bool shift = sign[0] == sign[1] && (*sign == '<' || *sign == '>');
    truth |= (*sign == '<' || *sign == '>') && !shift;
    if (!shift && !(truth && (*sign == '&' || *sign == '|')))
        a->without_sign = b.without_sign = a->without_sign || b.without_sign;
    if ((*sign == '/' || *sign == '%') && !b.value) {
        if (counts)
            return e->complain(e->self, "This divides by zero.");
        b.value = 1;
    }
    uint64_t x = a->value, y = b.value, r = 0;
    switch (*sign) {
    case '|':
        r = truth ? x || y : x | y;
        break;
    case '&':
        r = truth ? x && y : x & y;
        break;
    case '^':
        r = x ^ y;
        break;
    case '=':
        r = x == y;
        break;
    case '!':
        r = x != y;
        break;
    case '<':
        r = shift ? shifted(a, true, &b) : sign[1] ? !less(&b, a) : less(a, &b);
        break;
    case '>':
        r = shift ? shifted(a, false, &b) : sign[1] ? !less(a, &b) : less(&b, a);
        break;
    case '+':
        r = x + y;
        break;
    case '-':
        r = x - y;
        break;
    case '*':
        r = x * y;
        break;
    default:
        r = quotient(a, &b, *sign == '%');
        break;
    }
    *a = (struct number){r, truth ? !e->with_sign : a->without_sign};
    return true;
}

static bool unary(struct mos_expression *e, struct number *n, bool counts) {
    const struct mos_cpp_token *t = e->peek(e->self);
    char sign = t->kind == MOS_CPP_SIGN && t->length == 1 ? *t->text : 0;
    bool twice = mos_cpp_is(t, "--") || mos_cpp_is(t, "++"); /* two of them, without a blank */
    if (twice || (sign && strchr("-~!+", sign))) {
        bool minus = *t->text == '-';
        e->next(e->self);
        if (++e->depth > DEEPEST)
            return e->complain(e->self, "This expression is nested too deep.");
        bool ok = unary(e, n, counts);
        e->depth--;
        if (twice || sign == '+')
            return ok;
        n->value = minus ? 0 - n->value : sign == '~' ? ~n->value : !n->value;
        if (sign == '!')
            n->without_sign = !e->with_sign;
        return ok;
    }
    if (sign == '(') {
        e->next(e->self);
        if (!ternary(e, n, counts))
            return false;
        if (!mos_cpp_is(e->peek(e->self), ")"))
            return e->complain(e->self, "A ) is missing here.");
        e->next(e->self);
        return true;
    }
    n->without_sign = !e->with_sign;
    return e->operand(e->self, &n->value, &n->without_sign);
}

static bool binary(struct mos_expression *e, int least, struct number *n, bool counts) {
    if (!unary(e, n, counts))
        return false;
    for (;;) {
        int op = next_operator(e);
        if (op < 0 || operators[op].rank < least)
            return true;
        const char *sign = operators[op].sign;
        bool decided =
            (sign[0] == '&' && sign[1] && !n->value) || (sign[0] == '|' && sign[1] && n->value);
        e->next(e->self);
        struct number right = {0};
        if (!binary(e, operators[op].rank + 1, &right, counts && !decided) ||
            !apply(e, op, n, right, counts))
            return false;
    }
}

static bool ternary(struct mos_expression *e, struct number *n, bool counts) {
    if (++e->depth > DEEPEST)
        return e->complain(e->self, "This expression is nested too deep.");
    bool ok = binary(e, 1, n, counts);
    if (ok && mos_cpp_is(e->peek(e->self), "?")) {
        struct number yes = {0}, no = {0};
        e->next(e->self);
        ok = ternary(e, &yes, counts && n->value);
        if (ok && !mos_cpp_is(e->peek(e->self), ":"))
            ok = e->complain(e->self, "A : is missing here.");
        if (ok) {
            e->next(e->self);
            ok = ternary(e, &no, counts && !n->value);
        }
        bool without_sign = yes.without_sign || no.without_sign;
        *n = n->value ? yes : no;
        n->without_sign = without_sign;
    }
    e->depth--;
    return ok;
}

bool mos_expression_value(struct mos_expression *e, uint64_t *value) {
    struct number n = {0};
    bool ok = ternary(e, &n, true);
    *value = n.value;
    return ok;
}

/* ---- numbers and characters ---- */

static inline unsigned digit_of(char c) {
    unsigned digit = (unsigned)(uint8_t)c - '0', letter = ((unsigned)(uint8_t)c | 32) - 'a';
    return digit < 10 ? digit : letter < 6 ? letter + 10 : 99;
}

bool mos_expression_number(const char *text, size_t *length, uint64_t *value, bool *without_sign) {
    size_t n = *length, at = 0;
    unsigned base = 10;
    if (n > 2 && text[0] == '0' && (text[1] | 32) == 'x') {
        base = 16;
        at = 2;
    } else if (n > 2 && text[0] == '0' && (text[1] | 32) == 'b') {
        base = 2;
        at = 2;
    } else if (n && text[0] == '0') {
        base = 8;
    }
    uint64_t v = 0;
    size_t digits = at;
    for (; at < n && digit_of(text[at]) < base; at++) {
        uint64_t digit = digit_of(text[at]);
        if (v >> 58 && v > (UINT64_MAX - digit) / base)
            return false;
        v = v * base + digit;
    }
    if (at == digits)
        return false;
    for (int i = 0; i < 3 && at < n && text[at] && strchr("uUlL", text[at]); i++, at++)
        *without_sign |= (text[at] | 32) == 'u';
    *without_sign |= v >> 63;
    *value = v;
    *length = at;
    return true;
}

char mos_expression_character(const char *text, size_t length, size_t *at) {
    char c = text[(*at)++];
    if (c != '\\' || *at >= length)
        return c;
    c = text[(*at)++];
    static const char from[] = "abfnrtv", to[] = "\a\b\f\n\r\t\v";
    const char *simple = c ? strchr(from, c) : NULL;
    if (simple)
        return to[simple - from];
    if (c == 'x') {
        unsigned value = 0;
        for (int i = 0; i < 2 && *at < length && digit_of(text[*at]) < 16; i++)
            value = value * 16 + digit_of(text[(*at)++]);
        return (char)value;
    }
    if (c >= '0' && c <= '7') {
        int value = c - '0';
        for (int i = 0; i < 2 && *at < length && text[*at] >= '0' && text[*at] <= '7'; i++)
            value = value * 8 + text[(*at)++] - '0';
        return (char)value;
    }
    return c;
}
