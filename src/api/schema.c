/* The JSON Schema of definitions: a reader of the schema table, for editors. */
#include "api/run.h"

#include "model/schema.h"

#include <string.h>

struct writer {
    struct mos_buf out;
    struct mos_map done; /* titles of records that stand in $defs */
    struct mos_vec todo; /* of const struct mos_keys * */
};

static const char *pattern_of(enum mos_type type) {
    switch (type) {
    case MOS_TYPE_NAME:
    case MOS_TYPE_REFERENCE:
        return "^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$";
    case MOS_TYPE_INTEGER:
        return "^[0-9]+$";
    case MOS_TYPE_SIZE:
        return "^[0-9]+ *(B|KiB|MiB|GiB|TiB|kB|MB|GB|TB|sectors?)$";
    case MOS_TYPE_SPAN:
        return "^(rest|[0-9]{1,2}%|[0-9]+ *(B|KiB|MiB|GiB|TiB|kB|MB|GB|TB|sectors?))$";
    case MOS_TYPE_SHARE:
        return "^([0-9]{1,2}%|[0-9]+ *(B|KiB|MiB|GiB|TiB|kB|MB|GB|TB|sectors?))$";
    case MOS_TYPE_ADDRESS:
        return "^0[xX][0-9A-Fa-f]{1,16}$";
    case MOS_TYPE_BOOLEAN:
        return "^(yes|no|true|false)$";
    case MOS_TYPE_SHA256:
        return "^[0-9a-f]{64}$";
    case MOS_TYPE_DATE:
        return "^[0-9]{4}-[0-9]{2}-[0-9]{2}$";
    case MOS_TYPE_VERSION:
        return "^1$";
    case MOS_TYPE_PATH:
        return "^[^/].*$";
    default:
        return NULL;
    }
}

static void put_text(struct mos_buf *b, const char *text) {
    mos_buf_char(b, '"');
    for (; *text; text++) {
        if (*text == '"' || *text == '\\')
            mos_buf_char(b, '\\');
        mos_buf_char(b, *text);
    }
    mos_buf_char(b, '"');
}

/* A scalar: whatever type YAML gives it (yes, 12, 0x40), a text must fit the pattern. */
static void put_scalar(struct writer *w, const struct mos_key *key, enum mos_type type) {
    const char *pattern = pattern_of(type);
    if (type == MOS_TYPE_CHOICE) {
        mos_buf_text(&w->out, "\"enum\": [");
        for (size_t i = 0; key->choices[i]; i++) {
            mos_buf_text(&w->out, i ? ", " : "");
            put_text(&w->out, key->choices[i]);
        }
        mos_buf_char(&w->out, ']');
        return;
    }
    mos_buf_text(&w->out, "\"type\": [\"string\", \"number\", \"boolean\", \"null\"]");
    if (pattern) {
        mos_buf_text(&w->out, ", \"pattern\": ");
        put_text(&w->out, pattern);
    }
}

static void put_reference(struct writer *w, const struct mos_keys *keys) {
    if (!mos_map_get(&w->done, keys->title)) {
        mos_map_set_const(&w->done, keys->title, keys);
        mos_vec_push_pointer(&w->todo, keys);
    }
    mos_buf_text(&w->out, "\"$ref\": ");
    put_text(&w->out, mos_printf(w->out.arena, "#/$defs/%s", keys->title));
}

static void put_key(struct writer *w, const struct mos_key *key) {
    mos_buf_text(&w->out, "{\"description\": ");
    put_text(&w->out, key->about);
    mos_buf_text(&w->out, ", ");
    if (key->type == MOS_TYPE_RECORD) {
        put_reference(w, key->record);
    } else if (key->type == MOS_TYPE_NAMED) {
        mos_buf_text(&w->out, "\"anyOf\": [{\"type\": \"null\"}, {\"type\": \"object\", "
                              "\"patternProperties\": {\"^~.+$\": {}}, "
                              "\"additionalProperties\": {");
        put_reference(w, key->record);
        mos_buf_text(&w->out, "}}");
        if (key->listed)
            mos_buf_text(&w->out, ", {\"type\": \"array\", \"items\": {\"type\": \"string\"}}");
        mos_buf_char(&w->out, ']');
    } else if (key->type == MOS_TYPE_LIST) {
        mos_buf_text(&w->out, "\"anyOf\": [{");
        put_scalar(w, key, key->of);
        mos_buf_text(&w->out, "}, {\"type\": \"array\", \"items\": {");
        put_scalar(w, key, key->of);
        mos_buf_text(&w->out, "}}]");
    } else {
        put_scalar(w, key, key->type);
    }
    mos_buf_char(&w->out, '}');
}

/* A part may leave out what another part states, so nothing is required but the head of a file. */
static void put_record(struct writer *w, const struct mos_keys *keys, bool head) {
    const struct mos_key *brief = keys->brief ? mos_schema_key(keys, keys->brief) : NULL;
    mos_buf_text(&w->out, "{\"anyOf\": [{\"type\": \"object\", \"properties\": {");
    for (size_t i = 0; i < keys->count; i++) {
        mos_buf_text(&w->out, i ? ",\n    " : "\n    ");
        put_text(&w->out, keys->keys[i].name);
        mos_buf_text(&w->out, ": ");
        put_key(w, &keys->keys[i]);
    }
    if (!head)
        mos_buf_printf(&w->out,
                       "%s\"after\": {\"type\": \"string\"}, "
                       "\"before\": {\"type\": \"string\"}",
                       keys->count ? ",\n    " : "");
    mos_buf_text(&w->out, "},\n   \"patternProperties\": {\"^~.+$\": {}}, "
                          "\"additionalProperties\": false");
    if (head) {
        mos_buf_text(&w->out, ", \"required\": [");
        for (size_t i = 0, n = 0; i < keys->count; i++)
            if (keys->keys[i].required) {
                mos_buf_text(&w->out, n++ ? ", " : "");
                put_text(&w->out, keys->keys[i].name);
            }
        mos_buf_char(&w->out, ']');
    }
    mos_buf_char(&w->out, '}');
    if (!head)
        mos_buf_text(&w->out, ", {\"type\": \"null\"}, {\"type\": \"string\", \"maxLength\": 0}");
    if (brief) {
        mos_buf_text(&w->out, ", ");
        put_key(w, brief);
    }
    mos_buf_text(&w->out, "]}");
}

static const char *schema_text(struct mos_arena *arena) {
    static const struct mos_keys *const files[] = {
        &mos_workspace_keys,   &mos_board_keys, &mos_trait_keys, &mos_feature_keys,
        &mos_waiver_file_keys, &mos_pins_keys,  &mos_bench_keys};
    enum { FILES = sizeof files / sizeof *files };
    struct writer w = {{.arena = arena}, mos_map_make(arena), mos_vec_make(arena, sizeof(void *))};
    mos_buf_text(&w.out, "{\"$schema\": \"http://json-schema.org/draft-07/schema#\",\n"
                         " \"title\": \"Mosaicum definitions\",\n \"anyOf\": [");
    for (size_t i = 0; i < FILES; i++)
        mos_buf_printf(&w.out, "%s{\"$ref\": \"#/$defs/%s\"}", i ? ", " : "", files[i]->title);
    mos_buf_text(&w.out, "],\n \"$defs\": {");
    for (size_t i = 0; i < FILES; i++)
        mos_map_set_const(&w.done, files[i]->title, files[i]);
    for (size_t i = 0; i < FILES; i++) {
        mos_buf_text(&w.out, i ? ",\n  " : "\n  ");
        put_text(&w.out, files[i]->title);
        mos_buf_text(&w.out, ": ");
        put_record(&w, files[i], true);
    }
    for (size_t i = 0; i < w.todo.count; i++) {
        const struct mos_keys *keys = mos_vec_pointer(&w.todo, i);
        mos_buf_text(&w.out, ",\n  ");
        put_text(&w.out, keys->title);
        mos_buf_text(&w.out, ": ");
        put_record(&w, keys, false);
    }
    mos_buf_text(&w.out, "\n }}\n");
    return mos_buf_string(&w.out);
}

enum mosaicum_status mosaicum_schema(mosaicum *m, const char **text) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    *text = schema_text(m->arena);
    return MOSAICUM_DONE;
}
