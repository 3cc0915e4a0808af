#include "model/yaml.h"

#include "base/map.h"
#include "base/text.h"

#include <string.h>
#include <yaml.h>

struct reader {
    struct mos_ctx *ctx;
    const struct mos_source *source;
    yaml_parser_t parser;
    size_t nodes, depth, flow_depth;
    size_t cursor_chars, cursor_bytes; /* libyaml counts characters; events come in order */
    bool failed;
};

/* The byte offset of a character index. */
static size_t byte_offset(struct reader *r, size_t chars) {
    while (r->cursor_chars > chars && r->cursor_bytes) { /* marks may lie a little before */
        do
            r->cursor_bytes--;
        while (r->cursor_bytes && ((unsigned char)r->source->text[r->cursor_bytes] & 0xc0) == 0x80);
        r->cursor_chars--;
    }
    while (r->cursor_chars < chars && r->cursor_bytes < r->source->length) {
        do
            r->cursor_bytes++;
        while (r->cursor_bytes < r->source->length &&
               ((unsigned char)r->source->text[r->cursor_bytes] & 0xc0) == 0x80);
        r->cursor_chars++;
    }
    return r->cursor_bytes;
}

static struct mos_place span(struct reader *r, const yaml_mark_t *from, const yaml_mark_t *to) {
    size_t start = byte_offset(r, from->index);
    size_t end = byte_offset(r, to->index);
    return mos_place_at(r->source, start, end - start);
}

static struct mos_finding *complain(struct reader *r, struct mos_place place, const char *message) {
    struct mos_finding *f = mos_find(&r->ctx->findings, MOS_RULE_BOARD_SCHEMA, "%s", message);
    mos_finding_at(&r->ctx->findings, f, place);
    return f;
}

static void stop(struct reader *r, struct mos_place place, const char *message,
                 const char *remedy) {
    if (r->failed)
        return;
    r->failed = true;
    struct mos_finding *f = complain(r, place, message);
    f->unparsable = true;
    if (remedy)
        mos_finding_try(&r->ctx->findings, f, "%s", remedy);
}

static const char *parser_remedy(const char *problem) {
    if (strstr(problem, "cannot start any token") || strstr(problem, "tab"))
        return "Indent with spaces, never with tabs; quote a text that begins with a special sign.";
    if (strstr(problem, "mapping values are not allowed"))
        return "Put each key on a line of its own, or quote a text that contains ': '.";
    if (strstr(problem, "',' or '}'") || strstr(problem, "',' or ']'"))
        return "Close the bracket, or put a comma between the values.";
    if (strstr(problem, "quoted scalar") || strstr(problem, "end of stream"))
        return "Close the quotation mark.";
    return "Check indentation, brackets and quotation marks above this place.";
}

static bool next_event(struct reader *r, yaml_event_t *event) {
    if (r->failed)
        return false;
    if (yaml_parser_parse(&r->parser, event))
        return true;
    const char *problem = r->parser.problem ? r->parser.problem : "not YAML";
    size_t at = byte_offset(r, r->parser.problem_mark.index);
    if (at >= r->source->length && at)
        at = r->source->length - 1;
    stop(r, mos_place_at(r->source, at, 1),
         mos_printf(r->ctx->arena, "This is not YAML: %s.", problem), parser_remedy(problem));
    return false;
}

static void refuse_decorations(struct reader *r, const yaml_event_t *event,
                               const unsigned char *anchor, const unsigned char *tag) {
    struct mos_place place = span(r, &event->start_mark, &event->start_mark);
    place.length = 1;
    if (anchor) {
        struct mos_finding *f =
            complain(r, place,
                     mos_printf(r->ctx->arena, "Anchor &%s: definitions have no anchors.", anchor));
        mos_finding_try(&r->ctx->findings, f, "State the value at the place where it is needed.");
    }
    if (tag) {
        struct mos_finding *f =
            complain(r, place, mos_printf(r->ctx->arena, "Tag %s: definitions have no tags.", tag));
        mos_finding_try(&r->ctx->findings, f,
                        "Remove it; each key knows what type its value must have.");
    }
}

static struct mos_node *new_node(struct reader *r, enum mos_node_kind kind,
                                 struct mos_place place) {
    if (++r->nodes > MOS_YAML_NODES)
        stop(r, place, "This file holds more than 1,000,000 values.",
             "Split it: each board and trait has a file of its own.");
    struct mos_node *n = mos_alloc(r->ctx->arena, sizeof *n);
    n->kind = kind;
    n->place = place;
    n->text = "";
    n->flow = r->flow_depth > 0;
    return n;
}

static struct mos_node *read_node(struct reader *r, yaml_event_t *event);

static struct mos_node *read_scalar(struct reader *r, const yaml_event_t *event) {
    struct mos_node *n =
        new_node(r, MOS_NODE_SCALAR, span(r, &event->start_mark, &event->end_mark));
    refuse_decorations(r, event, event->data.scalar.anchor, event->data.scalar.tag);
    n->text = mos_strndup(r->ctx->arena, (const char *)event->data.scalar.value,
                          event->data.scalar.length);
    n->plain = event->data.scalar.style == YAML_PLAIN_SCALAR_STYLE;
    if (strlen(n->text) != event->data.scalar.length)
        mos_finding_try(&r->ctx->findings,
                        complain(r, n->place, "This text contains a NUL character."),
                        "Remove \\0 from the text.");
    return n;
}

static struct mos_node *read_list(struct reader *r) {
    struct mos_vec items = mos_vec_make(r->ctx->arena, sizeof(struct mos_node *));
    yaml_event_t event;
    while (next_event(r, &event)) {
        bool end = event.type == YAML_SEQUENCE_END_EVENT;
        if (!end && items.count == MOS_YAML_ITEMS)
            stop(r, span(r, &event.start_mark, &event.end_mark),
                 "This list has more than 4000 items.", "Keep it below that.");
        if (!end)
            mos_vec_push_pointer(&items, read_node(r, &event));
        yaml_event_delete(&event);
        if (end)
            break;
    }
    struct mos_node *n = new_node(r, MOS_NODE_LIST, (struct mos_place){0});
    n->items = items.items;
    n->count = items.count;
    return n;
}

/* Checks a key; returns its name or NULL when the pair must be left out. */
static const char *accept_key(struct reader *r, const struct mos_node *key, struct mos_map *seen) {
    if (key->kind != MOS_NODE_SCALAR) {
        mos_finding_try(&r->ctx->findings, complain(r, key->place, "A key must be a plain name."),
                        "Write a name in front of the colon.");
        return NULL;
    }
    if (strcmp(key->text, "<<") == 0 && key->plain) {
        struct mos_finding *f = complain(r, key->place, "Definitions have no merge keys (<<).");
        mos_finding_try(&r->ctx->findings, f, "Write the keys out at this place.");
        return NULL;
    }
    struct mos_node *first = mos_map_get(seen, key->text);
    if (first) {
        struct mos_finding *f =
            complain(r, first->key_place,
                     mos_printf(r->ctx->arena, "Key %s stands twice in one map.", key->text));
        mos_finding_at(&r->ctx->findings, f, key->place);
        mos_finding_try(&r->ctx->findings, f, "Remove one of them.");
        return NULL;
    }
    return key->text;
}

static struct mos_node *read_map(struct reader *r) {
    struct mos_vec items = mos_vec_make(r->ctx->arena, sizeof(struct mos_node *));
    struct mos_map seen = mos_map_make(r->ctx->arena);
    yaml_event_t event;
    while (next_event(r, &event)) {
        if (event.type == YAML_MAPPING_END_EVENT) {
            yaml_event_delete(&event);
            break;
        }
        struct mos_node *key = read_node(r, &event);
        yaml_event_delete(&event);
        if (items.count == MOS_YAML_ITEMS)
            stop(r, key->place, "This map has more than 4000 keys.", "Keep it below that.");
        if (!next_event(r, &event))
            break;
        struct mos_node *value = read_node(r, &event);
        yaml_event_delete(&event);
        const char *name = accept_key(r, key, &seen);
        if (!name)
            continue;
        value->key = name;
        value->key_place = key->place;
        mos_map_set(&seen, name, value);
        mos_vec_push_pointer(&items, value);
    }
    struct mos_node *n = new_node(r, MOS_NODE_MAP, (struct mos_place){0});
    n->items = items.items;
    n->count = items.count;
    return n;
}

static struct mos_node *read_collection(struct reader *r, yaml_event_t *event) {
    bool map = event->type == YAML_MAPPING_START_EVENT;
    bool flow = map ? event->data.mapping_start.style == YAML_FLOW_MAPPING_STYLE
                    : event->data.sequence_start.style == YAML_FLOW_SEQUENCE_STYLE;
    struct mos_place place = span(r, &event->start_mark, &event->start_mark);
    place.length = 1;
    if (map)
        refuse_decorations(r, event, event->data.mapping_start.anchor,
                           event->data.mapping_start.tag);
    else
        refuse_decorations(r, event, event->data.sequence_start.anchor,
                           event->data.sequence_start.tag);
    if (++r->depth > MOS_YAML_DEPTH)
        stop(r, place, "Values are nested more than 64 deep here.", "Close the brackets.");
    r->flow_depth += flow;
    struct mos_node *n = map ? read_map(r) : read_list(r);
    n->flow = r->flow_depth > 0;
    r->flow_depth -= flow;
    r->depth--;
    n->place = place;
    return n;
}

static struct mos_node *read_node(struct reader *r, yaml_event_t *event) {
    switch (event->type) {
    case YAML_SCALAR_EVENT:
        return read_scalar(r, event);
    case YAML_MAPPING_START_EVENT:
    case YAML_SEQUENCE_START_EVENT:
        return read_collection(r, event);
    default: {
        struct mos_place place = span(r, &event->start_mark, &event->end_mark);
        if (event->type == YAML_ALIAS_EVENT) {
            struct mos_finding *f = complain(r, place, "Definitions have no aliases (*name).");
            mos_finding_try(&r->ctx->findings, f, "State the value here, or quote the text.");
        }
        return new_node(r, MOS_NODE_SCALAR, place);
    }
    }
}

static struct mos_node *read_documents(struct reader *r) {
    struct mos_node *root = NULL;
    yaml_event_t event;
    bool more = true, told = false;
    while (more && next_event(r, &event)) {
        if (event.type == YAML_DOCUMENT_START_EVENT && root && !told) {
            struct mos_place place = span(r, &event.start_mark, &event.end_mark);
            mos_finding_try(&r->ctx->findings,
                            complain(r, place, "A second document begins here; a file holds one."),
                            "Remove the line, or move what follows into a file of its own.");
            told = true;
        } else if (event.type == YAML_SCALAR_EVENT || event.type == YAML_MAPPING_START_EVENT ||
                   event.type == YAML_SEQUENCE_START_EVENT || event.type == YAML_ALIAS_EVENT) {
            struct mos_node *n = read_node(r, &event);
            root = root ? root : n;
        }
        more = event.type != YAML_STREAM_END_EVENT;
        yaml_event_delete(&event);
    }
    return root;
}

/* Bytes that libyaml would refuse with a bare offset, or read in its own way. */
static bool acceptable_bytes(struct reader *r) {
    const struct mos_source *s = r->source;
    size_t bad;
    if (s->length > MOS_YAML_LIMIT) {
        stop(r, mos_place_at(s, 0, 1), "This file is larger than 4 MiB.",
             "Split it: each board and trait has a file of its own.");
        return false;
    }
    if (!mos_utf8_valid(s->text, s->length, &bad)) {
        stop(r, mos_place_at(s, bad, 1),
             mos_printf(r->ctx->arena, "Byte 0x%02x is no text in UTF-8.",
                        (unsigned char)s->text[bad]),
             "Save the file as UTF-8 without control characters.");
        return false;
    }
    /* libyaml needs quadratic time for thousands of open brackets: look at the depth first */
    size_t depth = 0;
    for (size_t i = 0; i < s->length; i++) {
        if (s->text[i] == '[' || s->text[i] == '{')
            depth++;
        else if ((s->text[i] == ']' || s->text[i] == '}') && depth)
            depth--;
        else if (s->text[i] == '\n' && depth < MOS_YAML_DEPTH)
            depth = 0; /* brackets in texts and comments */
        if (depth > 1000) {
            stop(r, mos_place_at(s, i, 1), "Values are nested more than 64 deep here.",
                 "Close the brackets.");
            return false;
        }
    }
    return true;
}

struct mos_node *mos_yaml_parse(struct mos_ctx *ctx, const struct mos_source *source) {
    struct reader *r = mos_alloc(ctx->arena, sizeof *r);
    r->ctx = ctx;
    r->source = source;
    if (!acceptable_bytes(r))
        return NULL;
    if (!yaml_parser_initialize(&r->parser)) {
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "There is not enough memory to read %s",
                 source->shown_path);
        return NULL;
    }
    yaml_parser_set_input_string(&r->parser, (const unsigned char *)source->text, source->length);
    struct mos_node *root = read_documents(r);
    yaml_parser_delete(&r->parser);
    if (!r->failed && !root)
        stop(r, mos_place_at(source, 0, source->length ? 1 : 0), "This file is empty.",
             "Begin the definition with \"mosaicum: 1\".");
    return r->failed ? NULL : root;
}

struct mos_node *mos_node_get(const struct mos_node *map, const char *key) {
    if (!map || map->kind != MOS_NODE_MAP)
        return NULL;
    for (size_t i = 0; i < map->count; i++)
        if (strcmp(map->items[i]->key, key) == 0)
            return map->items[i];
    return NULL;
}

const char *mos_node_text(struct mos_arena *arena, const struct mos_node *node) {
    if (node->kind == MOS_NODE_SCALAR)
        return node->text;
    if (node->kind == MOS_NODE_LIST && node->count == 1)
        return node->items[0]->text;
    struct mos_buf b = {.arena = arena};
    mos_buf_char(&b, '[');
    for (size_t i = 0; i < node->count; i++)
        mos_buf_printf(&b, "%s%s", i ? ", " : "", node->items[i]->text);
    mos_buf_char(&b, ']');
    return mos_buf_string(&b);
}
