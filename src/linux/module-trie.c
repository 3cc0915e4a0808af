/* The binary index of the module loader (kmod's "index" files, version 2.1).  All numbers are
 * big-endian.  12 bytes: magic, version, where the root is.  A node: prefix and NUL; first and last
 * character and a word for each child from one to the other (0: none); a count, and as many values,
 * each a word for its priority and a text with NUL.  A word that says where a node is has in its
 * upper four bits which of the three it has. */
#include "linux/module-index.h"

#include "base/bytes.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

static const uint32_t magic = 0xb007f457, version = 0x00020001;
static const uint32_t has_prefix = 0x80000000, has_values = 0x40000000, has_children = 0x20000000,
                      where = 0x0fffffff;
enum { ASCII = 128, HEAD = 12, LONGEST_KEY = 1024 };

/* ---- writing ---- */

static int by_key(const void *a, const void *b) {
    const struct mos_trie_value *x = a, *y = b;
    int order = strcmp(x->key, y->key);
    if (!order)
        order = (x->priority > y->priority) - (x->priority < y->priority);
    return order ? order : strcmp(x->value, y->value);
}

static bool is_plain(const char *key) {
    const char *c = key;
    for (; *c > 0; c++) /* signed or not: neither NUL nor beyond ASCII */
        if ((unsigned char)*c >= ASCII)
            return false;
    return !*c && c - key <= LONGEST_KEY;
}

/* How many characters the first and the last key, and so all between them, share from `depth`. */
static size_t shared_prefix(const struct mos_trie_value *v, size_t count, size_t depth) {
    assert(count && strlen(v[0].key) >= depth);
    const char *a = v[0].key + depth, *b = v[count - 1].key + depth;
    size_t n = 0;
    while (a[n] && a[n] == b[n])
        n++;
    return n;
}

/* Writes what begins at `depth` of the keys, children first; where it is, and what it has. */
static uint32_t write_node(struct mos_buf *out, const struct mos_trie_value *v, size_t count,
                           size_t depth) {
    assert(count);
    uint32_t children[ASCII] = {0}, flags = 0;
    size_t prefix = shared_prefix(v, count, depth), own = 0;
    unsigned first = 0, last = 0;
    depth += prefix;
    while (own < count && !v[own].key[depth])
        own++;
    for (size_t i = own, n; i < count; i += n) {
        unsigned char c = (unsigned char)v[i].key[depth];
        for (n = 1; i + n < count && (unsigned char)v[i + n].key[depth] == c; n++)
            continue;
        assert(c && c < ASCII);
        children[c] = write_node(out, v + i, n, depth + 1);
        first = flags ? first : c;
        last = c;
        flags = has_children;
    }
    uint32_t at = (uint32_t)out->length;
    if (prefix) {
        mos_buf_add(out, v[0].key + depth - prefix, prefix);
        mos_buf_char(out, 0);
        flags |= has_prefix;
    }
    if (flags & has_children) {
        mos_buf_char(out, (char)first);
        mos_buf_char(out, (char)last);
        for (unsigned c = first; c <= last; c++)
            mos_buf_be32(out, children[c]);
    }
    if (own) {
        mos_buf_be32(out, (uint32_t)own);
        flags |= has_values;
    }
    for (size_t i = 0; i < own; i++) {
        mos_buf_be32(out, v[i].priority);
        mos_buf_add(out, v[i].value, strlen(v[i].value) + 1);
    }
    return at | flags;
}

bool mos_trie_write(struct mos_buf *out, struct mos_vec *values) {
    struct mos_trie_value *v = values->items;
    size_t count = 0, start = out->length;
    if (values->count)
        qsort(v, values->count, sizeof *v, by_key);
    for (size_t i = 0; i < values->count; i++) {
        bool again = count && strcmp(v[count - 1].key, v[i].key) == 0 &&
                     strcmp(v[count - 1].value, v[i].value) == 0;
        if (is_plain(v[i].key) && !again)
            v[count++] = v[i];
    }
    values->count = count;
    mos_buf_be32(out, magic);
    mos_buf_be32(out, version);
    mos_buf_be32(out, 0);
    uint32_t root = count ? write_node(out, v, count, 0) : HEAD;
    if (!count)
        mos_buf_be32(out,
                     0); /* a node that has nothing is nowhere: what is read there is harmless */
    mos_put_be32((uint8_t *)out->data + start + 8, root);
    return out->length - start <= where;
}

/* ---- reading ---- */

struct trie {
    struct mos_arena *arena;
    const uint8_t *bytes;
    size_t length;
    struct mos_vec *out;
    size_t end; /* of the last node that was read whole */
    char key[LONGEST_KEY + 1];
};

/* The text at *at, in place; NULL: it has no end. */
static const char *text_at(const struct trie *t, size_t *at) {
    if (*at >= t->length)
        return NULL;
    const char *text = (const char *)t->bytes + *at;
    size_t n = strnlen(text, t->length - *at);
    *at += n + 1;
    return *at <= t->length ? text : NULL;
}

static bool number_at(const struct trie *t, size_t *at, uint32_t *out) {
    if (*at > t->length || t->length - *at < 4)
        return false;
    *out = mos_be32(t->bytes + *at);
    *at += 4;
    return true;
}

static bool read_values(struct trie *t, size_t *at, size_t depth) {
    uint32_t count, priority;
    if (!number_at(t, at, &count))
        return false;
    t->key[depth] = 0;
    const char *key = mos_strdup(t->arena, t->key);
    for (; count; count--) {
        const char *value = number_at(t, at, &priority) ? text_at(t, at) : NULL;
        if (!value)
            return false;
        *(struct mos_trie_value *)mos_vec_push(t->out) =
            (struct mos_trie_value){key, value, priority};
    }
    return true;
}

/* Nodes lie in the order in which they end, as every writer puts them: so no byte is read for two
 * of them, and nothing goes round. */
static bool read_node(struct trie *t, uint32_t word, size_t depth) {
    size_t at = word & where, start = at, children;
    unsigned first = 1, last = 0;
    uint32_t child;
    if (word & has_prefix) {
        const char *prefix = text_at(t, &at);
        size_t n = prefix ? strlen(prefix) : 0;
        if (!prefix || n > LONGEST_KEY - depth)
            return false;
        memcpy(t->key + depth, prefix, n);
        depth += n;
    }
    if (word & has_children) {
        if (at > t->length || t->length - at < 2)
            return false;
        first = t->bytes[at];
        last = t->bytes[at + 1];
        at += 2;
        if (!first || first > last || last >= ASCII || depth >= LONGEST_KEY)
            return false;
    }
    children = at;
    for (unsigned c = first; c <= last; c++) {
        if (!number_at(t, &at, &child))
            return false;
        t->key[depth] = (char)c;
        if (child && ((child & where) >= start || !read_node(t, child, depth + 1)))
            return false;
    }
    at = children + 4 * (size_t)(last + 1 - first);
    if (start < t->end || ((word & has_values) && !read_values(t, &at, depth)))
        return false;
    t->end = at;
    return true;
}

bool mos_trie_read(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                   struct mos_vec *out) {
    struct trie t = {.arena = arena, .bytes = bytes, .length = length, .out = out, .end = HEAD};
    return length >= HEAD && mos_be32(bytes) == magic && mos_be32(bytes + 4) == version &&
           read_node(&t, mos_be32(bytes + 8), 0);
}
