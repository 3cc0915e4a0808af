/* Directives: C11, sections 6.10.1 to 6.10.6. */
#include "tree/cpp.h"

#include "base/text.h"

static struct mos_cpp_seen seen_of(const struct mos_cpp *c, const struct mos_cpp_token *t) {
    return (struct mos_cpp_seen){*t, c->buffer->file, t->text, t->length, 0};
}

/* The directive itself: "#word". */
static struct mos_cpp_seen sign_of(const struct mos_cpp *c, const struct mos_cpp_directive *d) {
    const char *end = d->at + 1;
    while (*end == ' ' || *end == '\t')
        end++;
    while (*end >= 'a' && *end <= 'z')
        end++;
    return (struct mos_cpp_seen){
        .file = c->buffer->file, .own = d->at, .own_length = (uint32_t)(end - d->at)};
}

/* ---- conditions ---- */

struct condition {
    struct mos_cpp *c;
    struct mos_cpp_seen line;
    struct mos_vec row;
    size_t at;
};

static const struct mos_cpp_seen *here(const struct condition *k) {
    return k->at < k->row.count ? mos_vec_at(&k->row, k->at) : &k->line;
}

static const struct mos_cpp_token *peek(void *self) {
    return &here(self)->t;
}

static void next(void *self) {
    ((struct condition *)self)->at++;
}

static bool complain(void *self, const char *message) {
    struct condition *k = self;
    return mos_cpp_fail(k->c, here(k), NULL, "%s", message);
}

static bool operand(void *self, uint64_t *value, bool *without_sign) {
    struct condition *k = self;
    const struct mos_cpp_token *t = peek(k);
    size_t n = t->length, at = 1;
    *value = 0;
    switch (t->kind) {
    case MOS_CPP_NAME: /* what is no macro is 0 */
        break;
    case MOS_CPP_NUMBER:
        if (!mos_expression_number(t->text, &n, value, without_sign) || n != t->length)
            return complain(k, "This is no number.");
        break;
    case MOS_CPP_CHARACTER:
        *value = (uint64_t)(int64_t)(signed char)mos_expression_character(t->text, t->length, &at);
        if (at + 1 != t->length)
            return complain(k, "This is no character.");
        break;
    default:
        return complain(k, "A number is missing in this condition.");
    }
    next(k);
    return true;
}

static bool is_true(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    struct condition k = {.c = c, .line = sign_of(c, d)};
    struct mos_cpp_seen *row = mos_alloc_array(c->arena, d->count, sizeof *row);
    uint64_t value = 0;
    k.line.t.text = "";
    for (uint32_t i = 0; i < d->count; i++)
        row[i] = seen_of(c, &d->tokens[i]);
    c->in_condition = true;
    k.row = mos_cpp_expand(c, row, d->count);
    c->in_condition = false;
    struct mos_expression e = {&k, peek, next, operand, complain, true, 0};
    if (!c->failed && mos_expression_value(&e, &value) && k.at < k.row.count)
        complain(&k, "This is too much for a condition.");
    return !c->failed && value;
}

static bool is_defined(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    struct mos_cpp_seen at = sign_of(c, d);
    if (!d->count || d->tokens[0].kind != MOS_CPP_NAME)
        return mos_cpp_fail(c, &at, "Write the name of a macro.", "A name is missing here.");
    return mos_cpp_macro_of(c, d->tokens[0].name) || d->tokens[0].name->builtin;
}

static bool refuse(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    struct mos_cpp_seen at = sign_of(c, d);
    if (d->wrong)
        mos_cpp_fail(c, &at, NULL, "%s.", d->wrong);
    return d->wrong;
}

/* To the branch of an #if that counts: the first that is true. */
static void choose(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    for (bool taken = false; d && !c->failed; d = d->next) {
        if (refuse(c, d))
            return;
        c->buffer->at = d->token + 1;
        switch (d->word) {
        case MOS_CPP_IF:
        case MOS_CPP_ELIF:
            taken = is_true(c, d);
            break;
        case MOS_CPP_IFDEF:
            taken = is_defined(c, d);
            break;
        case MOS_CPP_IFNDEF:
            taken = !is_defined(c, d);
            break;
        default:
            taken = true;
            break;
        }
        if (taken)
            return;
    }
}

/* Behind a branch that counted: to the end of its #if. */
static void leave(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    while (d->word != MOS_CPP_ENDIF && d->next) {
        d = d->next;
        if (refuse(c, d))
            return;
    }
    c->buffer->at = d->token + 1;
}

/* ---- includes ---- */

/* The name of the file, quotes or angles around it; NULL after a finding. */
static char *header_name(struct mos_cpp *c, const struct mos_cpp_directive *d, bool *beside,
                         struct mos_cpp_seen *at) {
    *at = sign_of(c, d);
    struct mos_vec row = {0};
    const struct mos_cpp_token *t = d->count ? d->tokens : NULL;
    if (t && t->kind == MOS_CPP_NAME) {
        struct mos_cpp_seen *own = mos_alloc_array(c->arena, d->count, sizeof *own);
        for (uint32_t i = 0; i < d->count; i++)
            own[i] = seen_of(c, &d->tokens[i]);
        row = mos_cpp_expand(c, own, d->count);
        t = row.count ? &((struct mos_cpp_seen *)mos_vec_at(&row, 0))->t : NULL;
    }
    if (t && t->kind == MOS_CPP_STRING) {
        *beside = *t->text == '"';
        if (!row.count)
            *at = seen_of(c, t);
        return mos_cpp_unquoted(c->arena, t);
    }
    *beside = false;
    struct mos_buf b = {.arena = c->arena};
    size_t i = 1;
    for (; t && mos_cpp_is(t, "<") && i < row.count; i++) {
        const struct mos_cpp_seen *s = mos_vec_at(&row, i);
        if (mos_cpp_is(&s->t, ">") && b.length)
            return b.data;
        if (b.length && s->t.flags & MOS_CPP_SPACE)
            mos_buf_char(&b, ' ');
        mos_buf_add(&b, s->t.text, s->t.length);
    }
    mos_cpp_fail(c, at, "Write #include \"file\" or #include <file>.",
                 "The name of a file is missing here.");
    return NULL;
}

/* false after a finding. */
static bool find(struct mos_cpp *c, const struct mos_cpp_directive *d,
                 struct mos_cpp_found *found) {
    struct mos_cpp_seen at;
    bool beside;
    const char *name = header_name(c, d, &beside, &at);
    bool next_one = d->word == MOS_CPP_INCLUDE_NEXT;
    found->folder = next_one ? c->buffer->folder : 0;
    const char *shown =
        name ? mos_cpp_look(c, &at, name, beside && !next_one, &found->folder) : NULL;
    found->file = shown ? mos_cpp_load(c, shown) : NULL;
    c->failed |= !found->file;
    return found->file;
}

static void include(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    bool same = d->word == MOS_CPP_INCLUDE && d->count && d->tokens[0].kind == MOS_CPP_STRING;
    struct mos_cpp_found found = *d->found;
    if (found.file)
        mos_cpp_load(c, found.file->source->shown_path); /* it counts for this pass, too */
    else if (!find(c, d, &found))
        return;
    if (same) /* in every pass */
        *d->found = found;
    if (found.file->once_pass != c->store->pass)
        mos_cpp_push_file(c, found.file, found.folder, d);
}

/* ---- the rest ---- */

static void say(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    struct mos_cpp_seen at = sign_of(c, d);
    const char *text = mos_strndup(c->ctx->arena, d->rest, d->rest_length);
    if (d->word == MOS_CPP_ERROR) {
        mos_cpp_fail(c, &at, "Correct what the line complains about.",
                     "The source gives up here: \"%s\".", text);
        return;
    }
    struct mos_finding *f =
        mos_find(&c->ctx->findings, MOS_RULE_TREE_SYNTAX, "The source warns: \"%s\".", text);
    f->severity = MOS_SEVERITY_WARNING;
    mos_finding_at(&c->ctx->findings, f, mos_cpp_place(c, &at));
    mos_finding_try(&c->ctx->findings, f, "Correct what the line complains about, or remove it.");
}

static void pragma(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    struct mos_cpp_seen at = sign_of(c, d);
    if (d->count == 1 && d->tokens[0].kind == MOS_CPP_NAME &&
        strcmp(d->tokens[0].name->text, "once") == 0)
        c->buffer->file->once_pass = c->store->pass;
    else
        mos_cpp_fail(c, &at, "Remove the line.", "This means nothing in a device tree.");
}

static void set(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    struct mos_cpp_seen at = sign_of(c, d);
    if (d->word == MOS_CPP_DEFINE)
        mos_cpp_set_macro(c, d->macro->name, d->macro);
    else if (d->count && d->tokens[0].kind == MOS_CPP_NAME)
        mos_cpp_set_macro(c, d->tokens[0].name, NULL);
    else
        mos_cpp_fail(c, &at, "Write the name of a macro.", "A name is missing here.");
}

static void obey(struct mos_cpp *c, const struct mos_cpp_directive *d) {
    if (refuse(c, d))
        return;
    switch (d->word) {
    case MOS_CPP_DEFINE:
    case MOS_CPP_UNDEF:
        set(c, d);
        break;
    case MOS_CPP_INCLUDE:
    case MOS_CPP_INCLUDE_NEXT:
        include(c, d);
        break;
    case MOS_CPP_IF:
    case MOS_CPP_IFDEF:
    case MOS_CPP_IFNDEF:
        choose(c, d);
        break;
    case MOS_CPP_ELIF:
    case MOS_CPP_ELSE:
        leave(c, d);
        break;
    case MOS_CPP_ERROR:
    case MOS_CPP_WARNING:
        say(c, d);
        break;
    case MOS_CPP_PRAGMA:
        pragma(c, d);
        break;
    case MOS_CPP_ENDIF:
    case MOS_CPP_LINE:
        break;
    case MOS_CPP_OTHER_WORD: {
        struct mos_cpp_seen at = sign_of(c, d);
        mos_cpp_fail(c, &at, "Remove the line.", "This means nothing in a device tree.");
        break;
    }
    }
}

void mos_cpp_begin(struct mos_cpp *c) {
    c->store->pass++;
    c->obey = obey;
    c->contexts = mos_vec_make(c->arena, sizeof(struct mos_cpp_context));
    c->uses = mos_vec_make(c->arena, sizeof(struct mos_cpp_use));
    for (size_t i = 0; i < c->store->defines.count; i++) {
        const struct mos_cpp_macro *m = mos_vec_pointer(&c->store->defines, i);
        mos_cpp_set_macro(c, m->name, m);
    }
}
