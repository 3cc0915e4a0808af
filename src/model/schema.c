#include "model/schema.h"

#include "base/text.h"

#include <ctype.h>
#include <stdio.h>
#include <string.h>

static struct mos_finding *complain(struct mos_ctx *ctx, enum mos_rule_id rule,
                                    struct mos_place place, const char *message) {
    struct mos_finding *f = mos_find(&ctx->findings, rule, "%s", message);
    mos_finding_at(&ctx->findings, f, place);
    return f;
}

/* ---- one scalar ---- */

/* What a type's reader says about a text: NULL when it is good, else what is wrong with it. */
struct verdict {
    const char *problem;
    const char *remedy;
    enum mos_rule_id rule;
};
#define GOOD ((struct verdict){0})
#define BAD(p, r) ((struct verdict){p, r, MOS_RULE_BOARD_SCHEMA})

static struct verdict read_size(struct mos_ctx *ctx, struct mos_value *v) {
    const char *unit = strstr(v->text, "sector");
    uint64_t scale = unit ? 1 : 0;
    switch (mos_size_parse(v->text, scale, &v->number)) {
    case MOS_NUMBER_OK:
        v->sectors = unit != NULL;
        return GOOD;
    case MOS_NUMBER_NO_UNIT:
        return BAD("has no unit", mos_printf(ctx->arena, "Write %s KiB, %s MiB or %s B.", v->text,
                                             v->text, v->text));
    case MOS_NUMBER_TOO_BIG:
        return BAD("is larger than any file can be", "State the size of the medium or file.");
    default:
        return BAD("is not a size",
                   "Write a whole number and a unit: KiB MiB GiB, kB MB GB, B or sectors.");
    }
}

static struct verdict read_share(struct mos_ctx *ctx, struct mos_value *v);

static struct verdict read_span(struct mos_ctx *ctx, struct mos_value *v) {
    if (strcmp(v->text, "rest") == 0) {
        v->rest = true;
        return GOOD;
    }
    return read_share(ctx, v);
}

static struct verdict read_share(struct mos_ctx *ctx, struct mos_value *v) {
    size_t n = strlen(v->text);
    if (!n || v->text[n - 1] != '%')
        return read_size(ctx, v);
    v->percent = true;
    if (mos_integer_parse(mos_strndup(ctx->arena, v->text, n - 1), &v->number) || v->number > 99)
        return BAD("is not a share", "Write a whole number from 0% to 99%.");
    return GOOD;
}

static struct verdict read_integer(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    if (mos_integer_parse(v->text, &v->number) || v->number > UINT32_MAX)
        return BAD("is not a whole number", "Use decimal digits only.");
    return GOOD;
}

static struct verdict read_address(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    if (mos_address_parse(v->text, &v->number))
        return BAD("is not an address", "Write it as 0x… in hexadecimal.");
    return GOOD;
}

static struct verdict read_boolean(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    v->truth = strcmp(v->text, "yes") == 0 || strcmp(v->text, "true") == 0;
    if (!v->truth && strcmp(v->text, "no") != 0 && strcmp(v->text, "false") != 0)
        return BAD("is neither yes nor no", "Write yes, no, true or false.");
    return GOOD;
}

static struct verdict read_name(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    if (!mos_is_name(v->text))
        return BAD("is not a name", "Use letters, digits, - _ and . only, at most 64.");
    return GOOD;
}

static struct verdict read_text(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    (void)v;
    return GOOD;
}

static struct verdict read_path(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    const char *p = v->text;
    if (!*p)
        return BAD("is empty", "Write the path of a file; it starts at the workspace.");
    bool leaves = *p == '/';
    if (*p == '<' && p[strcspn(p, ">")]) /* below a root that mosaicum.yaml names */
        p += strcspn(p, ">") + 1;
    for (long depth = 0; *p && !leaves;) {
        size_t n = strcspn(p, "/");
        if (n == 2 && p[0] == '.' && p[1] == '.')
            leaves = --depth < 0;
        else if (n && !(n == 1 && p[0] == '.'))
            depth++;
        p += n;
        p += *p == '/';
    }
    if (leaves)
        return (struct verdict){"leaves the workspace",
                                "Put the file below the workspace and name it from there.",
                                MOS_RULE_PIECE_PATH};
    return GOOD;
}

static struct verdict read_sha256(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    if (strlen(v->text) != 64 || strspn(v->text, "0123456789abcdef") != 64)
        return BAD("is not a SHA-256", "Write 64 digits 0-9 a-f.");
    return GOOD;
}

static struct verdict read_version(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    if (strcmp(v->text, "1") != 0)
        return BAD("is not a format this program knows", "Write mosaicum: 1.");
    return GOOD;
}

static struct verdict read_date(struct mos_ctx *ctx, struct mos_value *v) {
    (void)ctx;
    unsigned y, m, d;
    char end;
    if (strlen(v->text) != 10 || sscanf(v->text, "%4u-%2u-%2u%c", &y, &m, &d, &end) != 3 ||
        y < 1980 || y > 2107 || !m || m > 12 || !d || d > 31)
        return BAD("is not a date",
                   "Write year, month and day from 1980 to 2107, as in 2026-03-01.");
    v->number = (uint64_t)(mos_days_of_date(y, m, d) * 86400);
    return GOOD;
}

static struct verdict (*const readers[])(struct mos_ctx *, struct mos_value *) = {
    [MOS_TYPE_TEXT] = read_text,       [MOS_TYPE_NAME] = read_name,
    [MOS_TYPE_INTEGER] = read_integer, [MOS_TYPE_SIZE] = read_size,
    [MOS_TYPE_SPAN] = read_span,       [MOS_TYPE_SHARE] = read_share,
    [MOS_TYPE_ADDRESS] = read_address, [MOS_TYPE_BOOLEAN] = read_boolean,
    [MOS_TYPE_CHOICE] = read_text,     [MOS_TYPE_PATH] = read_path,
    [MOS_TYPE_REFERENCE] = read_name,  [MOS_TYPE_SHA256] = read_sha256,
    [MOS_TYPE_DATE] = read_date,       [MOS_TYPE_VERSION] = read_version,
};

static size_t choice_count(const char *const *choices) {
    size_t n = 0;
    while (choices[n])
        n++;
    return n;
}

static const char *listed(struct mos_ctx *ctx, const char *const *words, size_t count) {
    struct mos_buf b = {.arena = ctx->arena};
    for (size_t i = 0; i < count; i++)
        mos_buf_printf(&b, "%s%s", i ? i + 1 == count ? " or " : ", " : "", words[i]);
    return mos_buf_string(&b);
}

static void read_choice(struct mos_ctx *ctx, const struct mos_key *key, struct mos_value *v) {
    size_t count = choice_count(key->choices);
    for (size_t i = 0; i < count; i++)
        if (strcmp(v->text, key->choices[i]) == 0) {
            v->number = i;
            return;
        }
    v->broken = true;
    struct mos_finding *f = complain(
        ctx, MOS_RULE_BOARD_SCHEMA, v->place,
        mos_printf(ctx->arena, "%s cannot be %s.", key->name, *v->text ? v->text : "empty"));
    const char *near = mos_near(v->text, key->choices, count);
    mos_finding_try(&ctx->findings, f, near ? "Write %s; possible are %s." : "Choose %s%s.",
                    near ? near : "", listed(ctx, key->choices, count));
}

struct mos_value *mos_schema_value(struct mos_ctx *ctx, const struct mos_key *key,
                                   enum mos_type type, const struct mos_node *node) {
    struct mos_value *v = mos_alloc(ctx->arena, sizeof *v);
    v->place = node->place;
    v->text = node->text;
    v->stated = node;
    if (node->kind != MOS_NODE_SCALAR) {
        v->broken = true;
        complain(ctx, MOS_RULE_BOARD_SCHEMA, node->key ? node->key_place : node->place,
                 mos_printf(ctx->arena, "%s needs a single value, not a %s.", key->name,
                            node->kind == MOS_NODE_MAP ? "map" : "list"));
        return v;
    }
    if (!*node->text && node->plain && type != MOS_TYPE_TEXT) {
        v->broken = true;
        complain(ctx, MOS_RULE_BOARD_SCHEMA, node->key ? node->key_place : node->place,
                 mos_printf(ctx->arena, "%s has no value.", key->name));
        return v;
    }
    if (type == MOS_TYPE_CHOICE) {
        read_choice(ctx, key, v);
        return v;
    }
    struct verdict verdict = readers[type](ctx, v);
    if (verdict.problem) {
        v->broken = true;
        struct mos_finding *f =
            complain(ctx, verdict.rule, v->place,
                     mos_printf(ctx->arena, "%s: %s %s.", key->name, v->text, verdict.problem));
        if (verdict.remedy)
            mos_finding_try(&ctx->findings, f, "%s", verdict.remedy);
    }
    return v;
}

/* ---- maps ---- */

struct reader {
    struct mos_ctx *ctx;
    enum mos_reading reading;
    struct mos_findings *lacking; /* merged parts: what is missing is said here */
};

static void read_record(struct reader *r, const struct mos_keys *keys, const struct mos_node *node,
                        void *record);

const struct mos_key *mos_schema_key(const struct mos_keys *keys, const char *name) {
    for (size_t i = 0; i < keys->count; i++)
        if (strcmp(keys->keys[i].name, name) == 0)
            return &keys->keys[i];
    return NULL;
}

/* A flow value that YAML split at a comma: {console: ttyS0,115200} */
static bool split_at_comma(const struct mos_node *node) {
    if (!node->flow || !node->plain || *node->text || node->kind != MOS_NODE_SCALAR)
        return false;
    const struct mos_source *s = node->key_place.source;
    size_t at = node->key_place.offset;
    return s && at && s->text[at - 1] == ',';
}

static void unknown_key(struct mos_ctx *ctx, const struct mos_keys *keys,
                        const struct mos_node *item) {
    if (split_at_comma(item)) {
        struct mos_finding *f = complain(
            ctx, MOS_RULE_BOARD_SCHEMA, item->key_place,
            mos_printf(ctx->arena, "The comma before %s ends the value there.", item->key));
        mos_finding_why(&ctx->findings, f, "Inside { } and [ ] a comma separates values.");
        mos_finding_try(&ctx->findings, f, "Quote the whole value: \"…,%s\".", item->key);
        return;
    }
    const char *names[64];
    size_t count = 0;
    for (; count < keys->count && count < 64; count++)
        names[count] = keys->keys[count].name;
    struct mos_finding *f = complain(
        ctx, MOS_RULE_BOARD_SCHEMA, item->key_place,
        mos_printf(ctx->arena, "The key %s is not known here (%s).", item->key, keys->title));
    const char *near = mos_near(item->key, names, count);
    if (near)
        mos_finding_try(&ctx->findings, f, "Write %s.", near);
    else
        mos_finding_try(&ctx->findings, f, "Choose one of the known keys: %s.",
                        listed(ctx, names, count));
}

static void *member(void *record, const struct mos_key *key) {
    return (char *)record + key->offset;
}

static bool good_name(struct mos_ctx *ctx, const struct mos_keys *keys,
                      const struct mos_node *item) {
    struct mos_value v = {.text = item->key};
    bool free_form = keys->brief && strcmp(keys->brief, "file") != 0 &&
                     strcmp(keys->brief, "base") != 0; /* variables and arguments */
    if (free_form ? (*item->key && !strpbrk(item->key, "= \t\n\"'")) : !read_name(ctx, &v).problem)
        return true;
    struct mos_finding *f =
        complain(ctx, MOS_RULE_BOARD_SCHEMA, item->key_place,
                 mos_printf(ctx->arena, "%s is not a name for a %s.",
                            *item->key ? item->key : "An empty text", keys->title));
    if (split_at_comma(item))
        mos_finding_try(&ctx->findings, f, "Quote a value that contains a comma.");
    return false;
}

/* features: [pressure, rs485] */
static void read_names(struct reader *r, const struct mos_key *key, const struct mos_node *node,
                       struct mos_named *out) {
    static const struct mos_key name = {.name = "name", .type = MOS_TYPE_NAME};
    out->items = mos_alloc_array(r->ctx->arena, node->count, sizeof *out->items);
    for (size_t i = 0; i < node->count; i++) {
        struct mos_value *v = mos_schema_value(r->ctx, &name, MOS_TYPE_NAME, node->items[i]);
        if (v->broken)
            continue;
        struct mos_record *record = mos_alloc(r->ctx->arena, key->record->size);
        *record = (struct mos_record){
            .name = v->text, .key_place = v->place, .place = v->place, .node = node->items[i]};
        out->items[out->count++] = record;
    }
}

/* In a part: ~name, which takes something out again. */
static bool is_removal(const struct reader *r, const struct mos_node *item) {
    return r->reading == MOS_READ_PART && item->key[0] == '~' && item->key[1];
}

static void read_named(struct reader *r, const struct mos_key *key, const struct mos_node *node,
                       struct mos_named *out) {
    struct mos_ctx *ctx = r->ctx;
    out->node = node;
    if (node->kind == MOS_NODE_LIST && key->listed) {
        read_names(r, key, node, out);
        return;
    }
    if (node->kind != MOS_NODE_MAP) {
        if (node->kind == MOS_NODE_SCALAR && !*node->text && node->plain)
            return; /* "regions:" with nothing below */
        struct mos_finding *f =
            complain(ctx, MOS_RULE_BOARD_SCHEMA, node->key ? node->key_place : node->place,
                     mos_printf(ctx->arena, "%s needs a map of names to %ss.", key->name,
                                key->record->title));
        mos_finding_try(&ctx->findings, f, "Write %s: {name: …}.", key->name);
        return;
    }
    out->items = mos_alloc_array(ctx->arena, node->count, sizeof *out->items);
    for (size_t i = 0; i < node->count; i++) {
        if (is_removal(r, node->items[i]))
            continue;
        if (split_at_comma(node->items[i]) || !good_name(ctx, key->record, node->items[i])) {
            if (split_at_comma(node->items[i]))
                unknown_key(ctx, key->record, node->items[i]);
            continue;
        }
        void *record = mos_alloc(ctx->arena, key->record->size);
        read_record(r, key->record, node->items[i], record);
        out->items[out->count++] = record;
    }
}

static void read_list(struct mos_ctx *ctx, const struct mos_key *key, const struct mos_node *node,
                      struct mos_list *out) {
    out->node = node;
    if (node->kind == MOS_NODE_MAP) {
        complain(ctx, MOS_RULE_BOARD_SCHEMA, node->key ? node->key_place : node->place,
                 mos_printf(ctx->arena, "%s needs a list: [ … ].", key->name));
        return;
    }
    size_t count = node->kind == MOS_NODE_LIST ? node->count : 1;
    out->items = mos_alloc_array(ctx->arena, count, sizeof *out->items);
    for (size_t i = 0; i < count; i++) {
        const struct mos_node *item = node->kind == MOS_NODE_LIST ? node->items[i] : node;
        out->items[out->count++] = mos_schema_value(ctx, key, key->of, item);
    }
}

static void read_member(struct reader *r, const struct mos_key *key, const struct mos_node *node,
                        void *record) {
    struct mos_ctx *ctx = r->ctx;
    void *at = member(record, key);
    if (key->type == MOS_TYPE_RECORD) {
        void *inner = mos_alloc(ctx->arena, key->record->size);
        read_record(r, key->record, node, inner);
        memcpy(at, &inner, sizeof inner);
    } else if (key->type == MOS_TYPE_NAMED) {
        read_named(r, key, node, at);
    } else if (key->type == MOS_TYPE_LIST) {
        read_list(ctx, key, node, at);
    } else {
        struct mos_value *v = mos_schema_value(ctx, key, key->type, node);
        memcpy(at, &v, sizeof v);
    }
}

static void require_keys(struct reader *reader, const struct mos_keys *keys,
                         const struct mos_node *node, struct mos_record *r) {
    struct mos_ctx *ctx = reader->ctx;
    for (size_t i = 0; i < keys->count && reader->reading != MOS_READ_PART; i++) {
        if (!keys->keys[i].required || mos_node_get(node, keys->keys[i].name))
            continue;
        r->broken = true;
        struct mos_findings *list = reader->lacking ? reader->lacking : &ctx->findings;
        struct mos_finding *f =
            node->key ? mos_find(list, MOS_RULE_BOARD_SCHEMA, "The %s %s lacks the key %s.",
                                 keys->title, node->key, keys->keys[i].name)
                      : mos_find(list, MOS_RULE_BOARD_SCHEMA, "This %s lacks the key %s.",
                                 keys->title, keys->keys[i].name);
        mos_finding_at(list, f, node->key ? node->key_place : node->place);
        mos_finding_try(list, f, "Add %s: … (%s).", keys->keys[i].name, keys->keys[i].about);
    }
}

static bool is_move(const struct reader *r, const struct mos_node *item) {
    return r->reading == MOS_READ_PART &&
           (strcmp(item->key, "after") == 0 || strcmp(item->key, "before") == 0);
}

static void read_items(struct reader *r, const struct mos_keys *keys, const struct mos_node *node,
                       void *record) {
    for (size_t i = 0; i < node->count; i++) {
        const struct mos_node *item = node->items[i];
        const struct mos_key *key = mos_schema_key(keys, item->key + is_removal(r, item));
        if (key && !is_removal(r, item))
            read_member(r, key, item, record);
        else if (!key && !is_move(r, item))
            unknown_key(r->ctx, keys, item);
    }
}

static void needs_keys(struct mos_ctx *ctx, const struct mos_keys *keys,
                       const struct mos_node *node) {
    struct mos_finding *f = complain(
        ctx, MOS_RULE_BOARD_SCHEMA, node->key ? node->key_place : node->place,
        node->key ? mos_printf(ctx->arena, "The %s %s needs keys below it.", keys->title, node->key)
                  : mos_printf(ctx->arena, "A map of keys is wanted here (%s).", keys->title));
    mos_finding_try(&ctx->findings, f, "Write {%s: …}.", keys->count ? keys->keys[0].name : "");
}

static void read_record(struct reader *r, const struct mos_keys *keys, const struct mos_node *node,
                        void *record) {
    struct mos_record *out = record;
    size_t before = r->ctx->findings.items.count;
    bool nothing = node->kind == MOS_NODE_SCALAR && !*node->text && node->plain;
    *out = (struct mos_record){
        .name = node->key, .key_place = node->key_place, .place = node->place, .node = node};
    if (node->kind == MOS_NODE_MAP) {
        read_items(r, keys, node, record);
        if (!r->lacking || r->ctx->findings.items.count == before) /* else it is told already */
            require_keys(r, keys, node, out);
    } else if (nothing && (r->reading == MOS_READ_PART || !keys->count)) {
        return; /* it may stand alone: another part says more */
    } else if (keys->brief) {
        read_member(r, mos_schema_key(keys, keys->brief), node, record);
    } else {
        needs_keys(r->ctx, keys, node);
    }
    out->broken = out->broken || r->ctx->findings.items.count != before;
}

void mos_schema_read(struct mos_ctx *ctx, const struct mos_keys *keys, const struct mos_node *node,
                     enum mos_reading reading, void *record) {
    struct reader r = {ctx, reading, NULL};
    struct mos_findings said = ctx->findings;
    if (reading == MOS_READ_MERGED) { /* its parts have been read: their findings are known */
        r.lacking = &said;
        ctx->findings = mos_findings_make(ctx->arena);
    }
    read_record(&r, keys, node, record);
    if (reading == MOS_READ_MERGED)
        ctx->findings = said;
}
