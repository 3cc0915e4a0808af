#include "boot/parcel.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_PARTS = 256, MOST_NODES = 64 };

/* Fields of a blob's header (Devicetree Specification v0.4, section 5.2) and its tokens. */
enum { AT_TOTAL = 4, AT_STRUCT = 8, AT_STRINGS = 12, AT_STRINGS_SIZE = 32, AT_STRUCT_SIZE = 36 };
enum { BEGIN_NODE = 1, END_NODE = 2, PROPERTY = 3, NOTHING = 4, END = 9 };

/* ---- reading ---- */

static bool number(const struct mos_dt_node *n, const char *name, uint64_t *out) {
    const struct mos_dt_property *p = mos_dt_property(n, name);
    if (!p || (p->length != 4 && p->length != 8))
        return false;
    *out = p->length == 4 ? mos_be32(p->data) : mos_be64(p->data);
    return true;
}

/* The payload: inside of the tree, or behind it. */
static void find_data(const struct mos_parcel *p, struct mos_parcel_part *part) {
    const struct mos_dt_property *data = mos_dt_property(part->node, "data");
    uint64_t at, size;
    if (data) {
        part->data = data->length ? data->data : (const uint8_t *)"";
        part->length = data->length;
        return;
    }
    if (!number(part->node, "data-size", &size))
        return;
    if (number(part->node, "data-offset", &at)) {
        if (!mos_add(at, mos_round_up(p->tree_length, 4), &at))
            return;
    } else if (!number(part->node, "data-position", &at)) {
        return;
    }
    if (at > p->length || size > p->length - at)
        return;
    part->data = p->bytes + at;
    part->length = (size_t)size;
}

static void read_part(struct mos_parcel *p, const struct mos_dt_node *n) {
    struct mos_parcel_part *part = mos_vec_push(&p->parts);
    *part = (struct mos_parcel_part){.name = n->name,
                                     .about = mos_dt_string(n, "description"),
                                     .type = mos_dt_string(n, "type"),
                                     .os = mos_dt_string(n, "os"),
                                     .cpu = mos_dt_string(n, "arch"),
                                     .compression = mos_dt_string(n, "compression"),
                                     .node = n};
    part->has_load = number(n, "load", &part->load);
    part->has_entry = number(n, "entry", &part->entry);
    find_data(p, part);
}

/* All texts of a property. */
static struct mos_vec texts(struct mos_arena *arena, const struct mos_dt_node *n,
                            const char *name) {
    struct mos_vec out = mos_vec_make(arena, sizeof(char *));
    const struct mos_dt_property *p = mos_dt_property(n, name);
    for (size_t i = 0; p && i < p->length && out.count < MOST_NODES;) {
        const char *text = (const char *)p->data + i, *end = memchr(text, 0, p->length - i);
        if (!end)
            break;
        mos_vec_push_pointer(&out, text);
        i += (size_t)(end - text) + 1;
    }
    return out;
}

static void read_choice(struct mos_arena *arena, struct mos_parcel *p,
                        const struct mos_dt_node *n) {
    struct mos_parcel_choice *c = mos_vec_push(&p->choices);
    *c = (struct mos_parcel_choice){.name = n->name,
                                    .about = mos_dt_string(n, "description"),
                                    .kernel = mos_dt_string(n, "kernel"),
                                    .firmware = mos_dt_string(n, "firmware"),
                                    .ramdisk = mos_dt_string(n, "ramdisk"),
                                    .compatible = mos_dt_string(n, "compatible"),
                                    .trees = texts(arena, n, "fdt"),
                                    .loadables = texts(arena, n, "loadables"),
                                    .node = n};
}

struct mos_vec mos_parcel_uses(struct mos_arena *arena, const struct mos_parcel_choice *c) {
    struct mos_vec out = mos_vec_make(arena, sizeof(char *));
    const char *const single[] = {c->kernel, c->firmware, c->ramdisk};
    const struct mos_vec *const lists[] = {&c->trees, &c->loadables};
    for (size_t i = 0; i < sizeof single / sizeof *single; i++)
        if (single[i])
            mos_vec_push_pointer(&out, single[i]);
    for (size_t i = 0; i < sizeof lists / sizeof *lists; i++)
        for (size_t k = 0; k < lists[i]->count; k++)
            mos_vec_push_pointer(&out, mos_vec_pointer(lists[i], k));
    return out;
}

const char *mos_parcel_cpu(const char *cpu) {
    static const char *const names[][2] = {{"riscv64", "riscv"}, {"x86-64", "x86_64"}};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (strcmp(cpu, names[i][0]) == 0)
            return names[i][1];
    return cpu;
}

bool mos_parcel_is(const void *bytes, size_t length) {
    /* the node's name stands near the start, behind at most a few properties */
    static const char name[] = "\0\0\0\1images";
    const char *p = bytes;
    for (size_t i = 0; mos_dt_is_blob(bytes, length) && i + sizeof name < mos_min(length, 4096);
         i++)
        if (memcmp(p + i, name, sizeof name) == 0)
            return true;
    return false;
}

struct mos_parcel *mos_parcel_read(struct mos_ctx *ctx, const void *bytes, size_t length,
                                   const char **problem) {
    struct mos_error ignored;
    struct mos_ctx quiet = mos_ctx_quiet(ctx, &ignored);
    *problem = "it is no device-tree blob";
    if (!mos_dt_is_blob(bytes, length) || length < 40)
        return NULL;
    struct mos_parcel *p = mos_alloc(ctx->arena, sizeof *p);
    *p = (struct mos_parcel){.bytes = bytes,
                             .length = length,
                             .tree_length = mos_be32((const uint8_t *)bytes + AT_TOTAL),
                             .parts = mos_vec_make(ctx->arena, sizeof(struct mos_parcel_part)),
                             .choices = mos_vec_make(ctx->arena, sizeof(struct mos_parcel_choice))};
    *problem = "it is cut off or damaged";
    if (p->tree_length > length)
        return NULL;
    p->dt = mos_dt_read_blob(&quiet, "parcel", bytes, p->tree_length);
    if (!p->dt)
        return NULL;
    const struct mos_dt_node *images = mos_dt_child(p->dt->root, "images");
    const struct mos_dt_node *choices = mos_dt_child(p->dt->root, "configurations");
    *problem = "it has no images";
    if (!images)
        return NULL;
    for (const struct mos_dt_node *n = images->first_child; n && p->parts.count < MOST_PARTS;
         n = n->next)
        read_part(p, n);
    for (const struct mos_dt_node *n = choices ? choices->first_child : NULL;
         n && p->choices.count < MOST_PARTS; n = n->next)
        read_choice(ctx->arena, p, n);
    p->usual = choices ? mos_dt_string(choices, "default") : NULL;
    *problem = NULL;
    return p;
}

const struct mos_parcel_part *mos_parcel_part(const struct mos_parcel *p, const char *name) {
    for (size_t i = 0; name && i < p->parts.count; i++) {
        const struct mos_parcel_part *x = mos_vec_at(&p->parts, i);
        if (strcmp(x->name, name) == 0)
            return x;
    }
    return NULL;
}

const struct mos_parcel_choice *mos_parcel_choice(const struct mos_parcel *p, const char *name) {
    name = name ? name : p->usual;
    for (size_t i = 0; name && i < p->choices.count; i++) {
        const struct mos_parcel_choice *x = mos_vec_at(&p->choices, i);
        if (strcmp(x->name, name) == 0)
            return x;
    }
    return NULL;
}

/* ---- hashes ---- */

static bool is_hash(const struct mos_dt_node *n) {
    return strncmp(n->name, "hash", 4) == 0;
}

static bool hash_is_right(const struct mos_dt_node *n, const struct mos_parcel_part *part,
                          const char *kind) {
    const struct mos_dt_property *value = mos_dt_property(n, "value");
    uint8_t sum[MOS_SHA256_SIZE];
    if (!value || !part->data)
        return false;
    if (strcmp(kind, "sha256") == 0)
        return value->length == sizeof sum && mos_sha256(part->data, part->length, sum) &&
               memcmp(sum, value->data, sizeof sum) == 0;
    if (strcmp(kind, "crc32") == 0)
        return value->length == 4 &&
               mos_crc32(0, part->data, part->length) == mos_be32(value->data);
    return false; /* others are not made here, and cannot be checked */
}

bool mos_parcel_check_part(struct mos_arena *arena, const struct mos_parcel_part *part,
                           const char **names) {
    struct mos_buf b = {.arena = arena};
    bool good = part->data != NULL;
    for (const struct mos_dt_node *n = part->node->first_child; n && good; n = n->next) {
        const char *kind = mos_dt_string(n, "algo");
        if (!is_hash(n))
            continue;
        good = kind && hash_is_right(n, part, kind);
        mos_buf_printf(&b, "%s%s", kind ? kind : "?", good ? "+ " : " error!");
    }
    *names = mos_buf_string(&b);
    return good;
}

/* ---- signatures ---- */

/* One pass over the structure block: what is wanted of the node that we are in. */
enum wanted { NO, TAGS, ALL };

struct cover {
    const uint8_t *blob;
    size_t at, end, strings, strings_size;
    const char *const *nodes;
    size_t node_count;
    char path[1024];
    size_t path_length;
    enum wanted wanted, stack[32];
    unsigned depth;
};

static bool listed(const struct cover *c) {
    for (size_t i = 0; i < c->node_count; i++)
        if (strcmp(c->nodes[i], c->path_length ? c->path : "/") == 0)
            return true;
    return false;
}

/* A name goes onto the path; the root's is empty. */
static bool enter(struct cover *c, const char *name, size_t length) {
    if (c->depth + 1 >= sizeof c->stack / sizeof *c->stack ||
        c->path_length + length + 2 > sizeof c->path)
        return false;
    c->stack[c->depth++] = c->wanted;
    if (length) {
        c->path[c->path_length++] = '/';
        memcpy(c->path + c->path_length, name, length);
        c->path_length += length;
        c->path[c->path_length] = 0;
    }
    c->wanted = listed(c) ? ALL : c->wanted == ALL ? TAGS : NO;
    return true;
}

static void leave(struct cover *c) {
    c->wanted = c->stack[--c->depth];
    while (c->path_length && c->path[--c->path_length] != '/')
        ;
    c->path[c->path_length] = 0;
}

static bool is_left_out(const char *name) {
    static const char *const names[] = {"data", "data-size", "data-position", "data-offset"};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (strcmp(names[i], name) == 0)
            return true;
    return false;
}

/* The token at c->at: its length with what belongs to it, and whether it is covered. */
static size_t token(struct cover *c, bool *covered, uint32_t *kind) {
    size_t left = c->end - c->at;
    const uint8_t *p = c->blob + c->at;
    if (left < 4)
        return 0;
    *kind = mos_be32(p);
    if (*kind == BEGIN_NODE) {
        const uint8_t *zero = memchr(p + 4, 0, left - 4);
        if (!zero || !enter(c, (const char *)p + 4, (size_t)(zero - p) - 4))
            return 0;
        *covered = c->wanted != NO;
        return (size_t)mos_round_up((uint64_t)(zero - p) + 1, 4);
    }
    if (*kind == END_NODE) {
        if (!c->depth)
            return 0;
        *covered = c->wanted != NO;
        leave(c);
        return 4;
    }
    *covered = c->wanted == ALL;
    if (*kind == PROPERTY) {
        if (left < 12)
            return 0;
        uint64_t length = mos_round_up((uint64_t)mos_be32(p + 4), 4);
        uint32_t name = mos_be32(p + 8);
        if (length > left - 12 || name >= c->strings_size ||
            !memchr(c->blob + c->strings + name, 0, c->strings_size - name))
            return 0;
        *covered &= !is_left_out((const char *)c->blob + c->strings + name);
        return (size_t)length + 12;
    }
    if (*kind == END)
        *covered = true;
    return *kind == NOTHING || *kind == END ? 4 : 0;
}

bool mos_parcel_covered(const uint8_t *blob, size_t length, const char *const *nodes,
                        size_t node_count, uint32_t strings,
                        void (*take)(void *self, const void *bytes, size_t length), void *self) {
    struct cover c = {.blob = blob, .nodes = nodes, .node_count = node_count};
    if (length < 40)
        return false;
    c.at = mos_be32(blob + AT_STRUCT);
    c.strings = mos_be32(blob + AT_STRINGS);
    c.strings_size = mos_be32(blob + AT_STRINGS_SIZE);
    uint64_t end = c.at + (uint64_t)mos_be32(blob + AT_STRUCT_SIZE);
    if (end > length || (uint64_t)c.strings + c.strings_size > length || strings > c.strings_size)
        return false;
    c.end = (size_t)end;
    for (uint32_t kind = 0; kind != END;) {
        bool covered = false;
        size_t n = token(&c, &covered, &kind);
        if (!n || n > c.end - c.at)
            return false;
        if (covered)
            take(self, blob + c.at, n);
        c.at += n;
    }
    take(self, blob + c.strings, strings);
    return c.depth == 0;
}

static void add(void *self, const void *bytes, size_t length) {
    mos_sha256_update(self, bytes, length);
}

bool mos_parcel_digest(const uint8_t *blob, size_t length, const char *const *nodes,
                       size_t node_count, uint32_t strings, uint8_t digest[32]) {
    struct mos_sha256 *h = mos_sha256_new();
    if (!h)
        return false;
    bool good = mos_parcel_covered(blob, length, nodes, node_count, strings, add, h);
    mos_sha256_final(h, digest);
    mos_sha256_free(h);
    return good;
}

/* A choice must cover itself and every part that it uses with its hashes. */
static const char *uncovered(struct mos_arena *arena, const struct mos_parcel *p,
                             const struct mos_parcel_choice *choice, const struct mos_vec *nodes) {
    struct mos_vec needed = mos_vec_make(arena, sizeof(char *));
    struct mos_vec names = mos_parcel_uses(arena, choice);
    mos_vec_push_pointer(&needed, mos_printf(arena, "/configurations/%s", choice->name));
    for (size_t i = 0; i < names.count; i++) {
        const struct mos_parcel_part *part = mos_parcel_part(p, mos_vec_pointer(&names, i));
        if (!part)
            continue;
        mos_vec_push_pointer(&needed, mos_printf(arena, "/images/%s", part->name));
        for (const struct mos_dt_node *n = part->node->first_child; n; n = n->next)
            if (is_hash(n))
                mos_vec_push_pointer(&needed,
                                     mos_printf(arena, "/images/%s/%s", part->name, n->name));
    }
    for (size_t i = 0; i < needed.count; i++) {
        bool found = false;
        for (size_t k = 0; k < nodes->count; k++)
            found |= strcmp(mos_vec_pointer(nodes, k), mos_vec_pointer(&needed, i)) == 0;
        if (!found)
            return mos_vec_pointer(&needed, i);
    }
    return NULL;
}

static bool signature_fits(struct mos_arena *arena, const struct mos_parcel *p,
                           const struct mos_parcel_choice *choice, const struct mos_dt_node *s,
                           const struct mos_dt_node *key, const char **why) {
    const struct mos_dt_property *value = mos_dt_property(s, "value");
    const struct mos_dt_property *strings = mos_dt_property(s, "hashed-strings");
    const char *algorithm = mos_dt_string(s, "algo");
    const char *key_algorithm = mos_dt_string(key, "algo");
    struct mos_vec nodes = texts(arena, s, "hashed-nodes");
    uint8_t digest[32];
    *why = "its signature is incomplete";
    if (!value || !algorithm || !key_algorithm || !nodes.count || !strings || strings->length != 8)
        return false;
    *why = "its signature is of another kind than the key";
    if (strcmp(algorithm, key_algorithm) != 0 || strncmp(algorithm, "sha256,rsa", 10) != 0)
        return false;
    const char *missing = uncovered(arena, p, choice, &nodes);
    if (missing) {
        *why = mos_printf(arena, "its signature does not cover %s", missing);
        return false;
    }
    *why = "its signature does not fit";
    return mos_parcel_digest(p->bytes, p->tree_length, nodes.items, nodes.count,
                             mos_be32(strings->data + 4), digest) &&
           mos_parcel_signed_by(key, digest, value->data, value->length);
}

enum mos_parcel_trust mos_parcel_check_choice(struct mos_arena *arena, const struct mos_parcel *p,
                                              const struct mos_parcel_choice *choice,
                                              const struct mos_dt *keys, const char **why) {
    const struct mos_dt_node *all = keys ? mos_dt_child(keys->root, "signature") : NULL;
    enum mos_parcel_trust trust = MOS_PARCEL_NOT_ASKED;
    *why = NULL;
    for (const struct mos_dt_node *key = all ? all->first_child : NULL; key; key = key->next) {
        const char *required = mos_dt_string(key, "required");
        if (!required || strcmp(required, "conf") != 0)
            continue;
        bool good = false;
        *why = "it is not signed";
        for (const struct mos_dt_node *s = choice->node->first_child; s && !good; s = s->next) {
            const char *hint = mos_dt_string(s, "key-name-hint");
            const char *name = strncmp(key->name, "key-", 4) == 0 ? key->name + 4 : key->name;
            if (strncmp(s->name, "signature", 9) == 0 &&
                (hint ? strcmp(hint, name) == 0 : !mos_dt_property(s, "key-name-hint")))
                good = signature_fits(arena, p, choice, s, key, why);
        }
        if (!good)
            return MOS_PARCEL_REFUSED;
        trust = MOS_PARCEL_TRUSTED;
    }
    return trust;
}
