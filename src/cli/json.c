#include "cli/cli.h"

#include <jansson.h>
#include <stdlib.h>
#include <string.h>

/* The length of the well-formed UTF-8 character that a text begins with; 0: it is none. */
static size_t character(const char *text) {
    const unsigned char *p = (const unsigned char *)text;
    size_t n = *p < 0x80 ? 1 : *p >= 0xf0 ? 4 : *p >= 0xe0 ? 3 : *p >= 0xc2 ? 2 : 0;
    char one[5] = {0};
    for (size_t i = 0; i < n; i++) {
        if (i && (p[i] & 0xc0) != 0x80)
            return 0;
        one[i] = text[i];
    }
    json_t *v = n > 1 ? json_string(one) : NULL; /* overlong forms and surrogates */
    bool good = n == 1 || v;
    json_decref(v);
    return good ? n : 0;
}

/* Bytes that are no text, as damaged files have them, become U+FFFD. */
static json_t *repaired(const char *t) {
    json_t *v = NULL;
    char *out = malloc(3 * strlen(t) + 1), *to = out;
    for (size_t n; out && *t; t += n ? n : 1) {
        n = character(t);
        memcpy(to, n ? t : "\xef\xbf\xbd", n ? n : 3);
        to += n ? n : 3;
    }
    if (out)
        v = json_stringn(out, (size_t)(to - out));
    free(out);
    return v;
}

static json_t *text(const char *t) {
    json_t *v = t ? json_string(t) : json_null();
    return v ? v : repaired(t);
}

static json_t *place(const struct mosaicum_place *p) {
    if (!p->file)
        return json_pack("{s:o}", "thing", text(p->thing));
    json_t *o = json_pack("{s:o,s:i,s:i,s:I}", "file", text(p->file), "line", (int)p->line,
                          "column", (int)p->column, "length", (json_int_t)p->length);
    json_t *before = p->replaced_count ? json_array() : NULL;
    for (size_t i = 0; i < p->replaced_count; i++)
        json_array_append_new(before, place(&p->replaced[i]));
    if (before)
        json_object_set_new(o, "replaced", before);
    return o;
}

static json_t *findings(const mosaicum *m) {
    static const char *const severities[] = {"error", "warning", "note"};
    json_t *list = json_array();
    for (size_t i = 0; i < mosaicum_finding_count(m); i++) {
        const struct mosaicum_finding *f = mosaicum_finding_at(m, i);
        json_t *places = json_array();
        for (size_t k = 0; k < f->place_count; k++)
            json_array_append_new(places, place(&f->places[k]));
        json_t *selectors = json_array();
        for (size_t k = 0; k < f->selector_count; k++)
            json_array_append_new(selectors, text(f->selectors[k]));
        json_array_append_new(list, json_pack("{s:s,s:s,s:o,s:o,s:o,s:o,s:o,s:o}", "severity",
                                              severities[f->severity], "rule", f->rule, "board",
                                              text(f->selector_count ? f->selectors[0] : NULL),
                                              "selectors", selectors, "message", text(f->message),
                                              "places", places, "why", text(f->why), "try",
                                              text(f->remedy)));
    }
    return list;
}

static json_t *cell(const struct mosaicum_cell *c) {
    switch (c->kind) {
    case MOSAICUM_EMPTY:
        return json_null();
    case MOSAICUM_ALARM:
    case MOSAICUM_TEXT:
        return text(c->text);
    default:
        return json_integer((json_int_t)c->number);
    }
}

struct rows {
    const struct mosaicum_table *t;
    FILE *to;
    size_t count;
};

/* A row a line. */
static bool print_row(void *self, const struct mosaicum_cell *cells) {
    struct rows *r = self;
    json_t *row = json_object();
    for (size_t c = 0; c < r->t->column_count; c++)
        if (cells[c].kind != MOSAICUM_EXTENT)
            json_object_set_new(row, r->t->columns[c].key, cell(&cells[c]));
    fputs(r->count++ ? ",\n    " : "\n    ", r->to);
    bool good = row && json_dumpf(row, r->to, 0) == 0;
    json_decref(row);
    return good;
}

/* One member of an object that is written by hand, behind which comes `end`. */
static bool print_member(const char *key, json_t *value, const char *end, FILE *to) {
    fprintf(to, "\"%s\": ", key);
    bool good = value && json_dumpf(value, to, JSON_ENCODE_ANY) == 0;
    fputs(end, to);
    json_decref(value);
    return good;
}

static bool table_json(mosaicum *m, const struct mosaicum_table *t, FILE *to) {
    bool good = print_member("key", text(t->key), ",\n   ", to);
    if (t->text)
        return good & print_member("text", text(t->text), "", to);
    struct rows r = {t, to, 0};
    good &= print_member("title", text(t->title), ",\n   \"rows\": [", to);
    good &= mosaicum_table_rows(m, t, print_row, &r);
    fputs(r.count ? "\n   ]" : "]", to);
    return good;
}

/* What is not long, as one object; its closing brace is left to whoever goes on. */
static bool print_head(const mosaicum *m, const char *command, int status, FILE *to) {
    json_t *root = json_object(), *unproved = json_array();
    json_object_set_new(root, "mosaicum", json_integer(1));
    json_object_set_new(root, "command", json_string(command));
    json_object_set_new(root, "status", json_integer(status));
    json_object_set_new(root, "error", text(mosaicum_error(m)));
    json_object_set_new(root, "findings", findings(m));
    for (size_t i = 0; i < mosaicum_not_proved_count(m); i++)
        json_array_append_new(unproved, text(mosaicum_not_proved_at(m, i)));
    json_object_set_new(root, "not-proved", unproved);
    json_object_set_new(root, "waived", json_integer((json_int_t)mosaicum_waived_count(m)));
    char *head = json_dumps(root, JSON_INDENT(1));
    json_decref(root);
    if (head)
        fprintf(to, "%.*s,\n", (int)strlen(head) - 2, head);
    bool good = head != NULL;
    free(head);
    return good;
}

void print_json(mosaicum *m, const char *command, int status, FILE *to) {
    size_t count = mosaicum_table_count(m);
    bool good = print_head(m, command, status, to);
    fputs(" \"report\": [", to);
    for (size_t i = 0; i < count && good; i++) {
        fputs(i ? ",\n  {" : "\n  {", to);
        good = table_json(m, mosaicum_table_at(m, i), to);
        fputs("}", to);
    }
    fputs(count ? "\n ]\n}\n" : "]\n}\n", to);
    if (!good && !ferror(to)) /* else whoever reads has gone */
        out_give_up("there is not enough memory for all that is to be told");
}
