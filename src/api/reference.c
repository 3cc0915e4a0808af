/* The reference of all keys as Markdown: a reader of the schema table. */
#include "api/run.h"

#include "base/text.h"
#include "model/schema.h"

#include <string.h>

struct writer {
    struct mos_buf out;
    struct mos_map done;
    struct mos_vec todo;     /* of const struct mos_keys * */
    struct mos_vec names;    /* of const char *: keys and headings */
    const char *word;        /* what is asked for; NULL: all of it */
    struct mos_vec sections; /* of struct section: what was found */
};

struct section {
    const char *headings; /* of all places that have the same rows */
    const char *body;
};

/* One section more; the same rows elsewhere (a board, a trait, a feature) are one section. */
static void put_section(struct writer *w, const char *heading, const char *body) {
    for (size_t i = 0; i < w->sections.count && w->word; i++) {
        struct section *s = mos_vec_at(&w->sections, i);
        if (strcmp(s->body, body) != 0)
            continue;
        s->headings = mos_printf(w->out.arena, "%s, %s", s->headings, heading);
        return;
    }
    *(struct section *)mos_vec_push(&w->sections) = (struct section){heading, body};
}

/* What was asked for by its very name comes first. */
static const char *all_sections(struct writer *w) {
    for (int turn = 0; turn < 2; turn++)
        for (size_t i = 0; i < w->sections.count; i++) {
            const struct section *s = mos_vec_at(&w->sections, i);
            bool named = w->word && strcmp(s->headings, w->word) == 0;
            if (named == (turn == 0))
                mos_buf_printf(&w->out, "\n## %s\n\n%s", s->headings, s->body);
        }
    return mos_buf_string(&w->out);
}

static const char *type_text(struct writer *w, const struct mos_key *key, enum mos_type type) {
    static const char *const names[] = {[MOS_TYPE_TEXT] = "text",
                                        [MOS_TYPE_NAME] = "name",
                                        [MOS_TYPE_INTEGER] = "number",
                                        [MOS_TYPE_SIZE] = "size",
                                        [MOS_TYPE_SPAN] = "size, `25%` or `rest`",
                                        [MOS_TYPE_SHARE] = "size, or share in %",
                                        [MOS_TYPE_ADDRESS] = "address",
                                        [MOS_TYPE_BOOLEAN] = "yes or no",
                                        [MOS_TYPE_PATH] = "path",
                                        [MOS_TYPE_SHA256] = "SHA-256",
                                        [MOS_TYPE_DATE] = "date",
                                        [MOS_TYPE_VERSION] = "1"};
    static const char *const kinds[] = {[MOS_REFERS_PIECE] = "piece",
                                        [MOS_REFERS_REGION] = "region",
                                        [MOS_REFERS_MEDIUM] = "medium",
                                        [MOS_REFERS_STAGE] = "stage, or `rom`",
                                        [MOS_REFERS_BLOB] = "tree blob",
                                        [MOS_REFERS_ENVIRONMENT] = "environment",
                                        [MOS_REFERS_FRAGMENT] = "fragment",
                                        [MOS_REFERS_AREA] = "area of a medium",
                                        [MOS_REFERS_CONTENT] = "piece or region"};
    struct mos_buf b = {.arena = w->out.arena};
    if (type == MOS_TYPE_REFERENCE)
        return kinds[key->refers];
    if (type != MOS_TYPE_CHOICE)
        return names[type];
    for (size_t i = 0; key->choices[i]; i++)
        mos_buf_printf(&b, "%s`%s`",
                       !i                    ? ""
                       : key->choices[i + 1] ? ", "
                                             : " or ",
                       key->choices[i]);
    return mos_buf_string(&b);
}

static void note(struct writer *w, const struct mos_keys *keys) {
    if (mos_map_get(&w->done, keys->title))
        return;
    mos_map_set_const(&w->done, keys->title, keys);
    mos_vec_push_pointer(&w->todo, keys);
}

static const char *value_text(struct writer *w, const struct mos_key *key) {
    struct mos_arena *arena = w->out.arena;
    if (key->record)
        note(w, key->record);
    switch (key->type) {
    case MOS_TYPE_RECORD:
        return mos_printf(arena, "map → %s", key->record->title);
    case MOS_TYPE_NAMED:
        return mos_printf(arena, "map of names → %s%s%s", key->record->title,
                          key->refers ? ", named after a medium" : "",
                          key->listed ? "; or a list of names" : "");
    case MOS_TYPE_LIST:
        return mos_printf(arena, "list: %s", type_text(w, key, key->of));
    default:
        return type_text(w, key, key->type);
    }
}

/* Is a key, or are all of a table, what a word asks for? */
static bool is_meant(const struct writer *w, const char *heading, const char *key) {
    if (!w->word || strcmp(w->word, heading) == 0 || (key && strcmp(w->word, key) == 0))
        return true;
    size_t n = strlen(heading);
    return key && strncmp(w->word, heading, n) == 0 && w->word[n] == '.' &&
           strcmp(w->word + n + 1, key) == 0;
}

/* … or by one of the words that its value is chosen from. */
static bool key_is_meant(const struct writer *w, const char *heading, const struct mos_key *key) {
    bool meant = is_meant(w, heading, key->name);
    for (size_t i = 0; w->word && key->choices && key->choices[i] && !meant; i++)
        meant = strcmp(key->choices[i], w->word) == 0;
    return meant;
}

static void put_table(struct writer *w, const struct mos_keys *keys, const char *heading) {
    bool any = is_meant(w, heading, NULL);
    for (size_t i = 0; i < keys->count; i++) {
        (void)value_text(w, &keys->keys[i]); /* what it leads to comes, too */
        mos_vec_push_pointer(&w->names, keys->keys[i].name);
        any |= key_is_meant(w, heading, &keys->keys[i]);
    }
    mos_vec_push_pointer(&w->names, heading);
    if (!any)
        return;
    struct mos_buf body = {.arena = w->out.arena};
    const char *further = NULL;
    size_t count = 0;
    if (keys->brief)
        mos_buf_printf(&body, "A value in the place of the map means `%s`.\n\n", keys->brief);
    mos_buf_text(&body, keys->count ? "| key | value | meaning |\n|---|---|---|\n"
                                    : "No keys: the name says it.\n");
    for (size_t i = 0; i < keys->count; i++) {
        const struct mos_key *key = &keys->keys[i];
        if (!key_is_meant(w, heading, key))
            continue;
        mos_buf_printf(&body, "| `%s` | %s | %s%s |\n", key->name, value_text(w, key), key->about,
                       key->required ? " (required)" : "");
        further = key->record && strcmp(key->record->title, w->word ? w->word : "") != 0
                      ? key->record->title
                      : NULL;
        count++;
    }
    if (w->word && count == 1 && further)
        mos_buf_printf(&body, "\n`mosaicum explain%s%s%s` lists the keys of that map.\n",
                       strchr(further, ' ') ? " '" : " ", further, strchr(further, ' ') ? "'" : "");
    put_section(w, heading, mos_buf_string(&body));
}

static const char *reference(struct mos_arena *arena, const char *word, const char **near) {
    static const struct {
        const struct mos_keys *keys;
        const char *heading;
    } files[] = {{&mos_workspace_keys, "mosaicum.yaml"},
                 {&mos_board_keys, "boards/NAME.yaml"},
                 {&mos_trait_keys, "traits/NAME.yaml"},
                 {&mos_feature_keys, "features/NAME.yaml"},
                 {&mos_waiver_file_keys, "waivers/NAME.yaml"},
                 {&mos_pins_keys, "mosaicum.pins"},
                 {&mos_bench_keys, "bench.yaml (in your settings)"}};
    struct writer w = {{.arena = arena},
                       mos_map_make(arena),
                       mos_vec_make(arena, sizeof(void *)),
                       mos_vec_make(arena, sizeof(void *)),
                       word,
                       mos_vec_make(arena, sizeof(struct section))};
    for (size_t i = 0; i < sizeof files / sizeof *files; i++)
        put_table(&w, files[i].keys, files[i].heading);
    for (size_t i = 0; i < w.todo.count; i++) {
        const struct mos_keys *keys = mos_vec_pointer(&w.todo, i);
        put_table(&w, keys, keys->title);
    }
    if (w.sections.count)
        return all_sections(&w);
    *near = mos_near(word, (const char *const *)w.names.items, w.names.count);
    return NULL;
}

enum mosaicum_status mosaicum_reference(mosaicum *m, const char **text) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    const char *near;
    *text = reference(m->arena, NULL, &near);
    return MOSAICUM_DONE;
}

enum mosaicum_status mosaicum_reference_of(mosaicum *m, const char *word, const char **text,
                                           const char **near) {
    *text = *near = NULL;
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    *text = reference(m->arena, word, near);
    return MOSAICUM_DONE;
}

const char *mosaicum_near(const char *word, const char *const *words, size_t count) {
    return mos_near(word, words, count);
}
