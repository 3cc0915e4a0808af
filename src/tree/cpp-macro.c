/* Macros: C11, section 6.10.3. */
#include "tree/cpp.h"

#include <assert.h>
#include <ctype.h>

enum { DEEPEST = 100 };
#define MOST_TOKENS (4u << 20)

/* ---- contexts ---- */

static struct mos_cpp_context *top(const struct mos_cpp *c) {
    return c->contexts.count ? mos_vec_at(&c->contexts, c->contexts.count - 1) : NULL;
}

static struct mos_cpp_context *push(struct mos_cpp *c) {
    return mos_vec_push(&c->contexts);
}

static void pop(struct mos_cpp *c) {
    struct mos_cpp_context *k = top(c);
    if (k->name)
        k->name->disabled = false;
    c->contexts.count--;
}

void mos_cpp_push_back(struct mos_cpp *c, const struct mos_cpp_seen *seen, size_t count) {
    struct mos_cpp_context *k = push(c);
    k->seen = seen;
    k->seen_end = count ? seen + count : seen;
}

void mos_cpp_set_macro(struct mos_cpp *c, struct mos_cpp_name *name,
                       const struct mos_cpp_macro *macro) {
    name->macro = macro;
    name->pass = c->store->pass;
}

/* The next token of the contexts; false: they are at their end.  An argument's end is END. */
static bool from_contexts(struct mos_cpp *c, struct mos_cpp_seen *out) {
    for (struct mos_cpp_context *k; (k = top(c));) {
        if (k->at < k->end) {
            *out = (struct mos_cpp_seen){*k->at++, k->file, k->own, k->own_length, k->use};
            return true;
        }
        if (k->seen < k->seen_end) {
            *out = *k->seen++;
            return true;
        }
        if (k->barrier) {
            *out = (struct mos_cpp_seen){.file = k->file, .own = k->own};
            return true;
        }
        pop(c);
    }
    return false;
}

/* A word is whole unless one of its parts is a macro. */
static bool is_whole(const struct mos_cpp *c, const struct mos_cpp_token *word) {
    for (unsigned i = 1; i <= word->parameter; i++)
        if (word[i].kind == MOS_CPP_NAME &&
            (mos_cpp_macro_of(c, word[i].name) || word[i].name->builtin))
            return false;
    return true;
}

/* Where END comes: at the end of all, also at the end of a file, also at a directive. */
enum stop { AT_THE_END, AT_A_FILE, AT_A_LINE };

static void from_files(struct mos_cpp *c, struct mos_cpp_seen *out, bool words, enum stop stop) {
    for (struct mos_cpp_buffer *b; (b = c->buffer);) {
        if (b->at == b->file->count) {
            if (stop >= AT_A_FILE)
                break;
            c->buffer = b->outer;
            c->level--;
            continue;
        }
        const struct mos_cpp_token *t = &b->file->tokens[b->at];
        if (t->kind == MOS_CPP_DIRECTIVE) {
            if (stop == AT_A_LINE)
                break;
            b->at++;
            c->obey(c, t->directive);
            if (c->failed)
                break;
            continue;
        }
        b->at++;
        if (t->kind == MOS_CPP_WORD) {
            if (!words || !is_whole(c, t))
                continue;
            b->at += t->parameter;
        }
        *out = (struct mos_cpp_seen){*t, b->file, t->text, t->length, 0};
        return;
    }
    *out = (struct mos_cpp_seen){.t = {.text = ""}, .file = c->buffer ? c->buffer->file : c->base};
    out->own = out->file ? out->file->source->text + out->file->source->length : NULL;
}

static void raw(struct mos_cpp *c, struct mos_cpp_seen *out, bool words, enum stop stop) {
    if (!from_contexts(c, out))
        from_files(c, out, words, stop);
    if (++c->tokens > MOST_TOKENS)
        mos_cpp_fail(c, out, "Use smaller macros, or fewer of them.",
                     "The macros come to more than %u million tokens.", MOST_TOKENS >> 20);
    if (c->failed)
        out->t = (struct mos_cpp_token){.kind = MOS_CPP_END, .text = ""};
    if (out->t.kind == MOS_CPP_NAME && out->t.name->disabled)
        out->t.flags |= MOS_CPP_KEEP;
}

/* ---- arguments ---- */

struct arguments {
    struct mos_vec *given;    /* of struct mos_cpp_seen: one for each parameter */
    struct mos_vec *expanded; /* the same, made when it is needed (arena NULL before) */
    bool no_rest;             /* not even an empty one for the last parameter */
};

static struct mos_vec new_row(const struct mos_cpp *c) {
    return mos_vec_make(c->arena, sizeof(struct mos_cpp_seen));
}

static bool opens_call(struct mos_cpp *c) {
    struct mos_cpp_seen t;
    raw(c, &t, false, AT_A_LINE);
    if (mos_cpp_is(&t.t, "("))
        return true;
    if (t.t.kind == MOS_CPP_END)
        return false;
    struct mos_cpp_seen *kept = mos_alloc(c->arena, sizeof *kept);
    *kept = t;
    mos_cpp_push_back(c, kept, 1);
    return false;
}

static bool collect(struct mos_cpp *c, const struct mos_cpp_macro *m, const struct mos_cpp_seen *at,
                    struct arguments *a) {
    size_t count = m->parameters ? m->parameters : 1, i = 0, parens = 0;
    bool any = false;
    a->given = mos_alloc_array(c->arena, count, sizeof *a->given);
    a->expanded = mos_alloc_array(c->arena, count, sizeof *a->expanded);
    for (size_t k = 0; k < count; k++)
        a->given[k] = new_row(c);
    for (;;) {
        struct mos_cpp_seen t;
        raw(c, &t, false, AT_A_FILE);
        if (t.t.kind == MOS_CPP_END)
            return mos_cpp_fail(c, at, "Close it with ).", "The arguments of macro %s never end.",
                                m->name->text);
        if (!parens && mos_cpp_is(&t.t, ")"))
            break;
        any = true;
        parens += mos_cpp_is(&t.t, "(");
        parens -= mos_cpp_is(&t.t, ")");
        if (!parens && mos_cpp_is(&t.t, ",") && !(m->rest && i + 1 == m->parameters)) {
            if (++i >= count)
                return mos_cpp_fail(c, at, mos_printf(c->arena, "Give it %u.", m->parameters),
                                    "Macro %s takes %u argument%s, and more are given.",
                                    m->name->text, m->parameters, m->parameters == 1 ? "" : "s");
            continue;
        }
        *(struct mos_cpp_seen *)mos_vec_push(&a->given[i]) = t;
    }
    if (!m->parameters && any)
        return mos_cpp_fail(c, at, "Leave them out.", "Macro %s takes no arguments.",
                            m->name->text);
    size_t got = i + 1;
    a->no_rest = m->rest && (got < m->parameters || (got == 1 && !any));
    if (m->parameters && got < m->parameters && !(m->rest && got + 1 == m->parameters))
        return mos_cpp_fail(c, at, mos_printf(c->arena, "Give it %u.", m->parameters),
                            "Macro %s takes %u arguments, and %zu %s given.", m->name->text,
                            m->parameters, got, got == 1 ? "is" : "are");
    return true;
}

struct mos_vec mos_cpp_expand(struct mos_cpp *c, const struct mos_cpp_seen *seen, size_t count) {
    struct mos_vec out = new_row(c);
    if (++c->depth > DEEPEST) {
        if (count)
            mos_cpp_fail(c, seen, "Use fewer macros inside macros.",
                         "Macros are nested more than %d deep.", DEEPEST);
        return out;
    }
    size_t base = c->contexts.count;
    struct mos_cpp_context *k = push(c);
    k->seen = seen;
    k->seen_end = count ? seen + count : seen;
    k->barrier = true;
    uint8_t space = c->space;
    c->space = 0;
    while (!c->failed) {
        struct mos_cpp_seen t;
        mos_cpp_next(c, &t, false);
        if (t.t.kind == MOS_CPP_END)
            break;
        *(struct mos_cpp_seen *)mos_vec_push(&out) = t;
    }
    c->space = space;
    while (c->contexts.count > base)
        pop(c);
    c->depth--;
    return out;
}

/* ---- substitution ---- */

static void add_spelling(struct mos_buf *b, const struct mos_cpp_token *t) {
    bool quoted = t->kind == MOS_CPP_STRING || t->kind == MOS_CPP_CHARACTER;
    for (uint32_t i = 0; i < t->length; i++) {
        if (quoted && (t->text[i] == '"' || t->text[i] == '\\'))
            mos_buf_char(b, '\\');
        mos_buf_char(b, t->text[i]);
    }
}

static struct mos_cpp_token stringified(struct mos_cpp *c, const struct mos_vec *row) {
    struct mos_buf b = {.arena = c->arena};
    mos_buf_char(&b, '"');
    for (size_t i = 0; i < row->count; i++) {
        const struct mos_cpp_seen *s = mos_vec_at(row, i);
        if (i && s->t.flags & MOS_CPP_SPACE)
            mos_buf_char(&b, ' ');
        add_spelling(&b, &s->t);
    }
    mos_buf_char(&b, '"');
    return (struct mos_cpp_token){.text = mos_buf_string(&b),
                                  .length = (uint32_t)b.length,
                                  .kind = MOS_CPP_STRING,
                                  .flags = MOS_CPP_MADE};
}

/* Two tokens as one; false: they make none, and stay as they are. */
static bool paste(struct mos_cpp *c, struct mos_cpp_seen *left, const struct mos_cpp_seen *right) {
    const struct mos_cpp_token *made;
    size_t length = (size_t)left->t.length + right->t.length;
    struct mos_buf text = {.arena = c->arena}; /* it may have NUL bytes */
    mos_buf_add(&text, left->t.text, left->t.length);
    mos_buf_add(&text, right->t.text, right->t.length);
    if (mos_cpp_tokens(c->store, c->arena, mos_buf_string(&text), length, &made) != 1 ||
        made->length != length)
        return false;
    uint8_t space = left->t.flags & MOS_CPP_SPACE;
    left->t = *made;
    left->t.flags = (uint8_t)(MOS_CPP_MADE | space | (right->t.flags & MOS_CPP_LABEL));
    return true;
}

/* A macro's text being put together. */
struct result {
    struct mos_cpp *c;
    struct mos_vec row;
    bool pasting; /* ## stands before what comes next */
    bool nothing; /* … and behind an empty argument */
};

static void add(struct result *r, const struct mos_cpp_seen *s) {
    bool with = r->pasting && !r->nothing && r->row.count;
    r->pasting = r->nothing = false;
    if (with) {
        struct mos_cpp_seen *last = mos_vec_at(&r->row, r->row.count - 1);
        if (paste(r->c, last, s))
            return;
        struct mos_cpp_seen *own = mos_vec_push(&r->row);
        *own = *s;
        own->t.flags &= (uint8_t)~MOS_CPP_SPACE;
        return;
    }
    *(struct mos_cpp_seen *)mos_vec_push(&r->row) = *s;
}

static const struct mos_vec *expanded(struct mos_cpp *c, struct arguments *a, size_t i) {
    if (!a->expanded[i].arena)
        a->expanded[i] = mos_cpp_expand(c, a->given[i].items, a->given[i].count);
    return &a->expanded[i];
}

/* `, ## rest`: nothing is pasted; without arguments the comma goes. */
static bool is_optional_comma(const struct result *r, const struct mos_cpp_token *t) {
    const struct mos_cpp_seen *last = r->row.count ? mos_vec_at(&r->row, r->row.count - 1) : NULL;
    return r->pasting && t->flags & MOS_CPP_REST && last && mos_cpp_is(&last->t, ",");
}

static void add_parameter(struct result *r, struct arguments *a, const struct mos_cpp_token *t,
                          const struct mos_cpp_seen *origin) {
    size_t i = t->parameter;
    bool then = t->flags & MOS_CPP_PASTE;
    bool optional = is_optional_comma(r, t);
    if (optional) {
        r->pasting = false;
        if (a->no_rest) {
            r->row.count--;
            return;
        }
    }
    if (t->flags & MOS_CPP_STRINGIFY) {
        struct mos_cpp_seen s = *origin;
        s.t = stringified(r->c, &a->given[i]);
        s.t.flags |= t->flags & MOS_CPP_SPACE;
        add(r, &s);
        r->pasting = then;
        return;
    }
    const struct mos_vec *row =
        r->pasting || then || optional ? &a->given[i] : expanded(r->c, a, i);
    bool was = r->pasting && !r->nothing;
    for (size_t k = 0; k < row->count && !r->c->failed; k++) {
        struct mos_cpp_seen s = *(struct mos_cpp_seen *)mos_vec_at(row, k);
        if (!k)
            s.t.flags = (uint8_t)((s.t.flags & ~MOS_CPP_SPACE) | (t->flags & MOS_CPP_SPACE));
        if (!s.use)
            s.use = origin->use;
        if (k + 1 == row->count && s.t.kind == MOS_CPP_NAME)
            s.t.flags |= t->flags & MOS_CPP_LABEL;
        add(r, &s);
    }
    if (row->count) {
        r->pasting = then;
        r->nothing = false;
    } else {
        /* nothing ## x is x; a ## nothing ## x is a ## x */
        r->nothing = then && !was;
        r->pasting = then;
    }
}

static struct mos_vec substitute(struct mos_cpp *c, const struct mos_cpp_macro *m,
                                 struct arguments *a, const struct mos_cpp_seen *origin) {
    struct result r = {.c = c, .row = new_row(c)};
    for (uint32_t i = 0; i < m->count && !c->failed; i++) {
        const struct mos_cpp_token *t = &m->body[i];
        if (t->kind == MOS_CPP_PARAMETER) {
            add_parameter(&r, a, t, origin);
            continue;
        }
        struct mos_cpp_seen s = *origin;
        s.t = *t;
        s.t.flags &= (uint8_t)~MOS_CPP_PASTE;
        add(&r, &s);
        r.pasting = t->flags & MOS_CPP_PASTE;
    }
    return r.row;
}

/* ---- expansion ---- */

static uint32_t note_use(struct mos_cpp *c, const struct mos_cpp_macro *m,
                         const struct mos_cpp_seen *at) {
    *(struct mos_cpp_use *)mos_vec_push(&c->uses) =
        (struct mos_cpp_use){m, at->file, at->own, at->own_length, at->use};
    return (uint32_t)c->uses.count;
}

/* Puts a macro's text in place of its name; false: the name stays, since no "(" follows. */
static bool expand(struct mos_cpp *c, const struct mos_cpp_macro *m,
                   const struct mos_cpp_seen *at) {
    struct arguments a = {0};
    if (m->like_function) {
        if (!opens_call(c) || !collect(c, m, at, &a))
            return false;
    }
    struct mos_cpp_seen origin = *at;
    origin.use = note_use(c, m, at);
    c->space |= at->t.flags & MOS_CPP_SPACE;
    if (!m->like_function && !m->pastes) {
        struct mos_cpp_context *k = push(c);
        k->at = m->body;
        k->end = m->body + m->count;
        k->file = origin.file;
        k->own = origin.own;
        k->own_length = origin.own_length;
        k->use = origin.use;
        k->name = m->name;
    } else {
        struct mos_vec row = substitute(c, m, &a, &origin);
        struct mos_cpp_context *k = push(c);
        k->seen = row.items;
        k->seen_end = row.count ? k->seen + row.count : k->seen;
        k->name = m->name;
    }
    m->name->disabled = true;
    return !c->failed;
}

/* The line of the file where the outermost macro was used. */
static unsigned line_of(struct mos_cpp *c, const struct mos_cpp_seen *at) {
    struct mos_cpp_seen s = *at;
    while (s.use) {
        const struct mos_cpp_use *u = mos_vec_at(&c->uses, s.use - 1);
        s = (struct mos_cpp_seen){
            .file = u->file, .own = u->own, .own_length = u->own_length, .use = u->outer};
    }
    struct mos_place p = mos_cpp_place(c, &s);
    return p.source ? mos_source_position(p.source, p.offset).line : 0;
}

static void set_number(struct mos_cpp *c, struct mos_cpp_seen *s, unsigned number) {
    s->t.kind = MOS_CPP_NUMBER;
    s->t.text = mos_printf(c->arena, "%u", number);
    s->t.length = (uint32_t)strlen(s->t.text);
    s->t.flags = (s->t.flags & MOS_CPP_SPACE) | MOS_CPP_MADE;
}

static void set_string(struct mos_cpp *c, struct mos_cpp_seen *s, const char *text) {
    struct mos_buf b = {.arena = c->arena};
    mos_buf_char(&b, '"');
    for (; *text; text++) {
        if (*text == '"' || *text == '\\')
            mos_buf_char(&b, '\\');
        mos_buf_char(&b, *text);
    }
    mos_buf_char(&b, '"');
    s->t.kind = MOS_CPP_STRING;
    s->t.text = mos_buf_string(&b);
    s->t.length = (uint32_t)b.length;
    s->t.flags = (s->t.flags & MOS_CPP_SPACE) | MOS_CPP_MADE;
}

/* defined NAME, defined(NAME) */
static void answer_defined(struct mos_cpp *c, struct mos_cpp_seen *s) {
    struct mos_cpp_seen t;
    raw(c, &t, false, AT_A_LINE);
    bool paren = mos_cpp_is(&t.t, "(");
    if (paren)
        raw(c, &t, false, AT_A_LINE);
    bool known = t.t.kind == MOS_CPP_NAME && (mos_cpp_macro_of(c, t.t.name) || t.t.name->builtin);
    if (t.t.kind != MOS_CPP_NAME)
        mos_cpp_fail(c, s, "Write defined(NAME).", "No name follows defined.");
    if (paren) {
        raw(c, &t, false, AT_A_LINE);
        if (!mos_cpp_is(&t.t, ")"))
            mos_cpp_fail(c, s, "Write defined(NAME).", "A ) is missing behind defined.");
    }
    set_number(c, s, known);
}

/* __has_include("file"), __has_include(<file>) */
static void answer_has_include(struct mos_cpp *c, struct mos_cpp_seen *s) {
    struct mos_buf name = {.arena = c->arena};
    struct mos_cpp_seen t;
    raw(c, &t, false, AT_A_LINE);
    bool good = mos_cpp_is(&t.t, "("), beside = false;
    mos_cpp_next(c, &t, false);
    if (good && t.t.kind == MOS_CPP_STRING) {
        beside = true;
        mos_buf_text(&name, mos_cpp_unquoted(c->arena, &t.t));
    } else if (good && mos_cpp_is(&t.t, "<")) {
        for (mos_cpp_next(c, &t, false); t.t.kind && !mos_cpp_is(&t.t, ">");
             mos_cpp_next(c, &t, false))
            mos_buf_add(&name, t.t.text, t.t.length);
    }
    mos_cpp_next(c, &t, false);
    if (!name.length || !mos_cpp_is(&t.t, ")"))
        mos_cpp_fail(c, s, "Write __has_include(\"file\").", "__has_include needs a file.");
    else if (mos_cpp_has(c, mos_buf_string(&name), beside) < 0)
        mos_cpp_fail(c, s, "Ask for files that may be read.",
                     "%s lies outside, so that it is not known whether it is there.", name.data);
    else
        set_number(c, s, (unsigned)mos_cpp_has(c, mos_buf_string(&name), beside));
}

static void answer(struct mos_cpp *c, struct mos_cpp_seen *s) {
    switch ((enum mos_cpp_builtin)s->t.name->builtin) {
    case MOS_CPP_FILE:
        set_string(c, s, c->buffer ? c->buffer->file->source->shown_path : "");
        break;
    case MOS_CPP_BASE_FILE:
        set_string(c, s, c->base ? c->base->source->shown_path : "");
        break;
    case MOS_CPP_LINE_NUMBER:
        set_number(c, s, line_of(c, s));
        break;
    case MOS_CPP_INCLUDE_LEVEL:
        set_number(c, s, c->level - 1);
        break;
    case MOS_CPP_COUNTER:
        set_number(c, s, c->counter++);
        break;
    case MOS_CPP_CLOCK:
        mos_cpp_fail(c, s, "Write the text that is meant.", "%s would make another tree each time.",
                     s->t.name->text);
        break;
    case MOS_CPP_DEFINED:
        if (c->in_condition)
            answer_defined(c, s);
        break;
    case MOS_CPP_HAS_INCLUDE:
        if (c->in_condition)
            answer_has_include(c, s);
        break;
    case MOS_CPP_VARIABLE:
        break;
    }
}

/* What most tokens are: the next one of the file, and nothing that is to be looked at. */
static bool plain(struct mos_cpp *c, struct mos_cpp_seen *out, bool words) {
    struct mos_cpp_buffer *b = c->buffer;
    if (c->contexts.count || !b || b->at == b->file->count || c->space || c->failed)
        return false;
    const struct mos_cpp_token *t = &b->file->tokens[b->at];
    if (t->kind == MOS_CPP_NAME   ? mos_cpp_macro_of(c, t->name) || t->name->builtin
        : t->kind == MOS_CPP_WORD ? !words || !is_whole(c, t)
                                  : t->kind == MOS_CPP_DIRECTIVE)
        return false;
    b->at += 1u + t->parameter;
    out->t = *t;
    out->file = b->file;
    out->own = t->text;
    out->own_length = t->length;
    out->use = 0;
    return true;
}

void mos_cpp_next(struct mos_cpp *c, struct mos_cpp_seen *out, bool words) {
    if (plain(c, out, words))
        return;
    for (;;) {
        raw(c, out, words, AT_THE_END);
        if (out->t.kind == MOS_CPP_NAME && !(out->t.flags & MOS_CPP_KEEP)) {
            const struct mos_cpp_macro *m = mos_cpp_macro_of(c, out->t.name);
            if (m && expand(c, m, out))
                continue;
            if (out->t.name->builtin)
                answer(c, out);
        }
        break;
    }
    if (c->failed)
        out->t = (struct mos_cpp_token){.kind = MOS_CPP_END, .text = ""};
    out->t.flags |= c->space;
    c->space = 0;
}
