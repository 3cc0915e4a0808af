/* Splits a file into tokens, its directives and macros taken apart already. */
#include "tree/cpp.h"

#include <assert.h>
#include <string.h>

enum { FIRST_SLOTS = 4096 };

/* ---- characters ---- */

enum { BLANK = 1, LETTER = 2, DIGIT = 4, IN_WORD = 8 };
#define FIVE(x) x, x, x, x, x
#define TEN(x) FIVE(x), FIVE(x)
#define LETTERS(x) TEN(x), TEN(x), FIVE(x), x
static const uint8_t classes[256] = {
    ['\t'] = BLANK,
    ['\v'] = BLANK,
    ['\f'] = BLANK,
    ['\r'] = BLANK,
    [' '] = BLANK,
    ['0'] = TEN(DIGIT | IN_WORD),
    ['A'] = LETTERS(LETTER | IN_WORD),
    ['a'] = LETTERS(LETTER | IN_WORD),
    ['_'] = LETTER | IN_WORD,
    [','] = IN_WORD,
    ['.'] = IN_WORD,
    ['+'] = IN_WORD,
    ['*'] = IN_WORD,
    ['#'] = IN_WORD,
    ['?'] = IN_WORD,
    ['@'] = IN_WORD,
    ['-'] = IN_WORD,
};
#undef LETTERS
#undef TEN
#undef FIVE

static inline unsigned class_of(char c) {
    return classes[(uint8_t)c];
}

/* ---- names ---- */

static const struct {
    const char *text;
    uint8_t word, builtin;
} known[] = {
    {"define", MOS_CPP_DEFINE, 0},
    {"undef", MOS_CPP_UNDEF, 0},
    {"include", MOS_CPP_INCLUDE, 0},
    {"include_next", MOS_CPP_INCLUDE_NEXT, 0},
    {"if", MOS_CPP_IF, 0},
    {"ifdef", MOS_CPP_IFDEF, 0},
    {"ifndef", MOS_CPP_IFNDEF, 0},
    {"elif", MOS_CPP_ELIF, 0},
    {"else", MOS_CPP_ELSE, 0},
    {"endif", MOS_CPP_ENDIF, 0},
    {"error", MOS_CPP_ERROR, 0},
    {"warning", MOS_CPP_WARNING, 0},
    {"line", MOS_CPP_LINE, 0},
    {"pragma", MOS_CPP_PRAGMA, 0},
    {"import", MOS_CPP_OTHER_WORD, 0},
    {"ident", MOS_CPP_OTHER_WORD, 0},
    {"sccs", MOS_CPP_OTHER_WORD, 0},
    {"assert", MOS_CPP_OTHER_WORD, 0},
    {"unassert", MOS_CPP_OTHER_WORD, 0},
    {"__FILE__", 0, MOS_CPP_FILE},
    {"__LINE__", 0, MOS_CPP_LINE_NUMBER},
    {"__BASE_FILE__", 0, MOS_CPP_BASE_FILE},
    {"__INCLUDE_LEVEL__", 0, MOS_CPP_INCLUDE_LEVEL},
    {"__COUNTER__", 0, MOS_CPP_COUNTER},
    {"__DATE__", 0, MOS_CPP_CLOCK},
    {"__TIME__", 0, MOS_CPP_CLOCK},
    {"__TIMESTAMP__", 0, MOS_CPP_CLOCK},
    {"__has_include", 0, MOS_CPP_HAS_INCLUDE},
    {"defined", 0, MOS_CPP_DEFINED},
    {"__VA_ARGS__", 0, MOS_CPP_VARIABLE},
};

struct mos_cpp_store *mos_cpp_store_new(struct mos_arena *arena) {
    struct mos_cpp_store *s = mos_alloc(arena, sizeof *s);
    *s = (struct mos_cpp_store){.arena = arena,
                                .texts = arena,
                                .names = mos_alloc_array(arena, FIRST_SLOTS, sizeof *s->names),
                                .name_slots = FIRST_SLOTS,
                                .files = mos_map_make(arena)};
    for (size_t i = 0; i < sizeof known / sizeof *known; i++) {
        struct mos_cpp_name *n = mos_cpp_intern(s, known[i].text, strlen(known[i].text));
        n->word = known[i].word;
        n->builtin = known[i].builtin;
    }
    static const char *const always[] = {"__DTS__", "__ASSEMBLER__", "__STDC__", "__STDC_HOSTED__"};
    s->defines = mos_vec_make(arena, sizeof(struct mos_cpp_macro *));
    for (size_t i = 0; i < sizeof always / sizeof *always; i++)
        mos_vec_push_pointer(&s->defines, mos_cpp_define(s, always[i]));
    return s;
}

static uint32_t hash_of(const char *text, size_t length) {
    uint64_t h = 0x9e3779b97f4a7c15u ^ length, word;
    for (; length >= 8; text += 8, length -= 8) {
        memcpy(&word, text, 8);
        h = (h ^ word) * 0xff51afd7ed558ccdu;
        h ^= h >> 32;
    }
    word = 0;
    memcpy(&word, text, length);
    h = (h ^ word) * 0xff51afd7ed558ccdu;
    return (uint32_t)(h >> 32 ^ h);
}

static void more_slots(struct mos_cpp_store *s) {
    struct mos_cpp_name **old = s->names;
    uint32_t count = s->name_slots;
    s->name_slots *= 2;
    s->names = mos_alloc_array(s->arena, s->name_slots, sizeof *s->names);
    for (uint32_t i = 0; i < count; i++) {
        if (!old[i])
            continue;
        uint32_t at = old[i]->hash & (s->name_slots - 1);
        while (s->names[at])
            at = (at + 1) & (s->name_slots - 1);
        s->names[at] = old[i];
    }
    mos_drop(s->arena, old, count * sizeof *old);
}

struct mos_cpp_name *mos_cpp_intern(struct mos_cpp_store *s, const char *text, size_t length) {
    assert(length <= UINT32_MAX);
    uint32_t hash = hash_of(text, length), mask = s->name_slots - 1, at = hash & mask;
    for (struct mos_cpp_name *n; (n = s->names[at]); at = (at + 1) & mask)
        if (n->hash == hash && n->length == length && memcmp(n->text, text, length) == 0)
            return n;
    struct mos_cpp_name *n = mos_alloc(s->arena, sizeof *n);
    n->text = mos_strndup(s->arena, text, length);
    n->length = (uint32_t)length;
    n->hash = hash;
    s->names[at] = n;
    if (++s->name_count > s->name_slots / 2)
        more_slots(s);
    return n;
}

/* ---- tokens ---- */

struct splitter {
    struct mos_cpp_store *store;
    struct mos_cpp_file *file; /* NULL: of a text that is none */
    const char *p, *end;
    struct mos_cpp_token *items;
    size_t count, room;
    bool space, line_start; /* before the next token */
    size_t run;             /* the token where a word may begin, + 1 */
    const char *run_end;
};

/* The length of "\" and a line end at p; 0: there is none. */
static size_t joint(const char *p, const char *end) {
    const char *q = p + 1;
    if (p >= end || *p != '\\')
        return 0;
    while (q < end && class_of(*q) == BLANK)
        q++;
    return q < end && *q == '\n' ? (size_t)(q - p) + 1 : 0;
}

static struct mos_cpp_token *push(struct splitter *s) {
    if (s->count == s->room) {
        size_t room = s->room ? 2 * s->room : 256;
        s->items = mos_grow(s->store->texts, s->items, s->count * sizeof *s->items,
                            s->room * sizeof *s->items, room * sizeof *s->items);
        s->room = room;
    }
    struct mos_cpp_token *t = &s->items[s->count++];
    *t = (struct mos_cpp_token){.flags = s->space ? MOS_CPP_SPACE : 0};
    s->space = s->line_start = false;
    return t;
}

/* Several tokens of a name's characters that touch each other become a word, which stands before
 * its parts. */
static void end_run(struct splitter *s) {
    if (!s->run)
        return;
    size_t first = s->run - 1, parts = s->count - first;
    s->run = 0;
    if (parts < 2)
        return;
    push(s);
    struct mos_cpp_token *t = &s->items[first];
    const char *text = t->text;
    size_t length = (size_t)(s->run_end - text);
    memmove(t + 1, t, parts * sizeof *t);
    t->kind = MOS_CPP_WORD;
    t->name = mos_cpp_intern(s->store, text, length);
    t->length = (uint32_t)length;
    t->flags &= MOS_CPP_SPACE;
    t->parameter = (uint16_t)parts;
    if (parts > UINT16_MAX) { /* nobody's name */
        memmove(t, t + 1, parts * sizeof *t);
        s->count--;
    }
}

static void skip_block_comment(struct splitter *s) {
    const char *p = s->p + 2;
    for (;;) {
        p = memchr(p, '*', (size_t)(s->end - p));
        if (!p || p + 1 >= s->end)
            break;
        if (p[1] == '/') {
            s->p = p + 2;
            return;
        }
        p++;
    }
    if (s->file && !s->file->open_comment)
        s->file->open_comment = s->p;
    s->p = s->end;
}

static void skip_line_comment(struct splitter *s) {
    for (;;) {
        const char *end = memchr(s->p, '\n', (size_t)(s->end - s->p)), *q = end;
        if (!end) {
            s->p = s->end;
            return;
        }
        while (q > s->p && class_of(q[-1]) == BLANK)
            q--;
        s->p = end;
        if (q == s->p || q[-1] != '\\')
            return;
        s->p++;
    }
}

/* Blanks, comments and joints; stops at a line's end, unless `lines`. */
static void skip_blanks(struct splitter *s, bool lines) {
    for (; s->p < s->end;) {
        char c = *s->p;
        size_t n;
        if (class_of(c) == BLANK) {
            s->p++;
        } else if (c == '\n') {
            if (!lines)
                return;
            s->line_start = true;
            s->p++;
        } else if (c == '/' && s->p + 1 < s->end && s->p[1] == '*') {
            skip_block_comment(s);
        } else if (c == '/' && s->p + 1 < s->end && s->p[1] == '/') {
            skip_line_comment(s);
        } else if (c == '\\' && (n = joint(s->p, s->end))) {
            s->p += n;
            continue; /* it joins what stands around it, and is no space itself */
        } else {
            return;
        }
        s->space = true;
    }
}

static void note_joined(struct splitter *s, struct mos_cpp_token *t, const char *at) {
    t->flags |= MOS_CPP_MADE;
    if (s->file)
        *(struct mos_cpp_joined *)mos_vec_push(&s->file->joined) =
            (struct mos_cpp_joined){t->text, at};
}

/* Characters of a name or number from p on; `number` also takes the sign of an exponent. */
static const char *run_of(const char *p, const char *end, bool number) {
    unsigned wanted = LETTER | DIGIT;
    for (; p < end; p++) {
        if (class_of(*p) & wanted)
            continue;
        if (number && (*p == '.' || ((*p == '+' || *p == '-') && strchr("eEpP", p[-1]))))
            continue;
        break;
    }
    return p;
}

/* A token that is cut by joints: its characters without them. */
static void take_joined(struct splitter *s, struct mos_cpp_token *t, const char *from,
                        bool number) {
    struct mos_buf b = {.arena = s->store->texts};
    const char *p = from;
    for (size_t n;;) {
        const char *stop = run_of(p, s->end, number);
        mos_buf_add(&b, p, (size_t)(stop - p));
        p = stop;
        if (!(n = joint(p, s->end)))
            break;
        const char *next = p + n;
        bool more =
            next < s->end && (class_of(*next) & (LETTER | DIGIT) || (number && *next == '.'));
        if (!more)
            break;
        p = next;
    }
    t->text = mos_buf_string(&b);
    t->length = (uint32_t)b.length;
    s->p = p;
    note_joined(s, t, from);
}

static void name_or_number(struct splitter *s, struct mos_cpp_token *t, bool number) {
    const char *from = s->p, *stop = run_of(from + 1, s->end, number);
    size_t n = stop < s->end && *stop == '\\' ? joint(stop, s->end) : 0;
    if (n && stop + n < s->end && class_of(stop[n]) & (LETTER | DIGIT)) {
        take_joined(s, t, from, number);
    } else {
        t->text = from;
        t->length = (uint32_t)(stop - from);
        s->p = stop;
    }
    t->kind = number ? MOS_CPP_NUMBER : MOS_CPP_NAME;
    if (!number)
        t->name = mos_cpp_intern(s->store, t->text, t->length);
}

/* A string or character with its quotes; the sign alone where it does not end in its line. */
static void quoted(struct splitter *s, struct mos_cpp_token *t, char quote) {
    struct mos_buf b = {.arena = s->store->texts};
    const char *from = s->p, *p = from + 1, *piece = from;
    bool whole = false, joined = false;
    for (size_t n; p < s->end && *p != '\n';) {
        if (*p == '\\' && (n = joint(p, s->end))) {
            mos_buf_add(&b, piece, (size_t)(p - piece));
            piece = p += n;
            joined = true;
        } else if (*p == '\\' && p + 1 < s->end) {
            p += 2;
        } else if (*p++ == quote) {
            whole = true;
            break;
        }
    }
    t->kind = !whole ? MOS_CPP_SIGN : quote == '"' ? MOS_CPP_STRING : MOS_CPP_CHARACTER;
    t->text = from;
    t->length = whole ? (uint32_t)(p - from) : 1;
    s->p = from + t->length;
    if (whole && joined) {
        mos_buf_add(&b, piece, (size_t)(p - piece));
        t->text = mos_buf_string(&b);
        t->length = (uint32_t)b.length;
        note_joined(s, t, from);
    }
}

/* The longest punctuator here (C11, section 6.4.6), in bytes. */
static size_t sign_length(const char *p, const char *end) {
    char second = p + 1 < end ? p[1] : 0, third = p + 2 < end ? p[2] : 0;
    switch (*p) {
    case '.':
        return second == '.' && third == '.' ? 3 : 1;
    case '<':
    case '>':
        return second == *p ? third == '=' ? 3 : 2 : second == '=' ? 2 : 1;
    case '-':
        return second == '>' || second == '-' || second == '=' ? 2 : 1;
    case '&':
    case '|':
    case '+':
        return second == *p || second == '=' ? 2 : 1;
    case '#':
        return second == '#' ? 2 : 1;
    case '=':
    case '!':
    case '*':
    case '/':
    case '%':
    case '^':
        return second == '=' ? 2 : 1;
    default:
        return 1;
    }
}

static void one_token(struct splitter *s) {
    const char *from = s->p;
    unsigned class = class_of(*from);
    bool number = class & DIGIT || (*from == '.' && from + 1 < s->end && class_of(from[1]) & DIGIT);
    size_t sign = number || class & LETTER ? 0 : sign_length(from, s->end);
    bool in_word = class & IN_WORD && (!sign || class_of(from[sign - 1]) & IN_WORD);
    if (!in_word || s->space || from != s->run_end)
        end_run(s);
    struct mos_cpp_token *t = push(s);
    if (!sign) {
        name_or_number(s, t, number);
        if (s->p < s->end && *s->p == ':' && !number)
            t->flags |= MOS_CPP_LABEL;
    } else if (*from == '"' || *from == '\'') {
        quoted(s, t, *from);
    } else {
        t->kind = MOS_CPP_SIGN;
        t->text = from;
        t->length = (uint32_t)sign;
        s->p += sign;
    }
    if (t->flags & MOS_CPP_MADE) { /* lines are joined in it: no part of a word */
        s->run = 0;
    } else if (in_word) {
        s->run = s->run ? s->run : s->count;
        s->run_end = s->p;
    }
}

/* ---- macros ---- */

/* The parameter that a name is in a macro's text, + 1. */
static size_t parameter_of(const struct mos_vec *names, const struct mos_cpp_token *t) {
    for (size_t i = 0; t->kind == MOS_CPP_NAME && i < names->count; i++)
        if (mos_vec_pointer(names, i) == (void *)t->name)
            return i + 1;
    return 0;
}

/* (a, b, rest...) from the token behind the "("; returns how many tokens it takes, 0: wrong. */
static size_t parameters(struct mos_cpp_store *store, const struct mos_cpp_token *t, size_t count,
                         struct mos_vec *names, bool *rest, const char **wrong) {
    size_t i = 0;
    *wrong = "The list of parameters is not closed";
    if (count && mos_cpp_is(t, ")"))
        return 1;
    while (i < count) {
        if (*rest) {
            *wrong = "No parameter may follow ...";
            return 0;
        }
        if (mos_cpp_is(&t[i], "...")) {
            mos_vec_push_pointer(names, mos_cpp_intern(store, "__VA_ARGS__", 11));
            *rest = true;
        } else if (t[i].kind != MOS_CPP_NAME) {
            *wrong = "A parameter must be a name";
            return 0;
        } else if (parameter_of(names, &t[i])) {
            *wrong = "A parameter is named twice";
            return 0;
        } else {
            mos_vec_push_pointer(names, t[i].name);
            if (i + 1 < count && mos_cpp_is(&t[i + 1], "...")) {
                *rest = true;
                i++;
            }
        }
        if (++i >= count)
            return 0;
        if (mos_cpp_is(&t[i], ")"))
            return i + 1;
        if (!mos_cpp_is(&t[i], ",")) {
            *wrong = "A comma is missing between parameters";
            return 0;
        }
        i++;
        *wrong = "The list of parameters is not closed";
    }
    return 0;
}

/* The text of a macro: parameters are marked, # and ## become flags of what stands beside them. */
static const char *take_body(struct mos_cpp_store *store, struct mos_cpp_macro *m,
                             const struct mos_cpp_token *t, size_t count,
                             const struct mos_vec *names) {
    struct mos_cpp_token *body = mos_alloc_array(store->texts, count, sizeof *body);
    uint32_t n = 0;
    bool stringify = false;
    for (size_t i = 0; i < count; i++) {
        size_t parameter = parameter_of(names, &t[i]);
        if (mos_cpp_is(&t[i], "##")) {
            if (!n || i + 1 == count)
                return "## needs something on both sides";
            body[n - 1].flags |= MOS_CPP_PASTE;
            m->pastes = true;
            continue;
        }
        if (m->like_function && mos_cpp_is(&t[i], "#") && i + 1 < count &&
            parameter_of(names, &t[i + 1])) {
            stringify = true;
            body[n].flags = t[i].flags & MOS_CPP_SPACE; /* those of the # */
            m->pastes = true;
            continue;
        }
        uint8_t before = body[n].flags;
        body[n] = t[i];
        if (stringify)
            body[n].flags = before | MOS_CPP_STRINGIFY;
        stringify = false;
        if (parameter) {
            body[n].kind = MOS_CPP_PARAMETER;
            body[n].parameter = (uint16_t)(parameter - 1);
            if (m->rest && parameter == names->count)
                body[n].flags |= MOS_CPP_REST;
        }
        n++;
    }
    if (n)
        body[0].flags &= (uint8_t)~MOS_CPP_SPACE;
    m->body = body;
    m->count = n;
    return NULL;
}

static const char *take_macro(struct splitter *s, struct mos_cpp_directive *d) {
    struct mos_cpp_store *store = s->store;
    const struct mos_cpp_token *t = d->tokens;
    if (!d->count || t->kind != MOS_CPP_NAME)
        return "#define needs a name";
    if (t->name->builtin)
        return "This name cannot be a macro";
    struct mos_cpp_macro *m = mos_alloc(store->texts, sizeof *m);
    *m = (struct mos_cpp_macro){.name = t->name, .file = s->file, .at = t->text};
    struct mos_vec names = mos_vec_make(store->texts, sizeof(char *));
    size_t used = 1;
    if (d->count > 1 && mos_cpp_is(&t[1], "(") && !(t[1].flags & MOS_CPP_SPACE)) {
        const char *wrong;
        size_t n = parameters(store, t + 2, d->count - 2, &names, &m->rest, &wrong);
        if (!n)
            return wrong;
        used += 1 + n;
        m->like_function = true;
    }
    if (names.count > UINT16_MAX)
        return "It has too many parameters";
    m->parameters = (uint16_t)names.count;
    d->macro = m;
    return take_body(store, m, t + used, d->count - used, &names);
}

/* ---- directives ---- */

/* <name> of an #include: one token, whatever it consists of. */
static bool take_header_name(struct splitter *s) {
    const char *close = s->p < s->end && *s->p == '<' ? s->p : NULL;
    while (close && close < s->end && *close != '>' && *close != '\n')
        close++;
    if (!close || close == s->end || *close != '>')
        return false;
    struct mos_cpp_token *t = push(s);
    t->kind = MOS_CPP_STRING;
    t->text = s->p;
    t->length = (uint32_t)(close + 1 - s->p);
    s->p = close + 1;
    return true;
}

/* The tokens of the line from p on, taken out of the file's row; words are of no use in them. */
static void take_line(struct splitter *s, struct mos_cpp_directive *d) {
    size_t first = s->count, n = 0;
    skip_blanks(s, false);
    d->rest = s->p;
    if ((d->word == MOS_CPP_INCLUDE || d->word == MOS_CPP_INCLUDE_NEXT) && take_header_name(s))
        skip_blanks(s, false);
    while (s->p < s->end && *s->p != '\n') {
        one_token(s);
        skip_blanks(s, false);
    }
    end_run(s);
    d->rest_length = (uint32_t)(s->p - d->rest);
    for (size_t i = first; i < s->count; i++)
        n += s->items[i].kind != MOS_CPP_WORD;
    struct mos_cpp_token *own = mos_alloc_array(s->store->texts, n, sizeof *own);
    d->tokens = own;
    d->count = (uint32_t)n;
    for (size_t i = first; i < s->count; i++)
        if (s->items[i].kind != MOS_CPP_WORD)
            *own++ = s->items[i];
    s->count = first;
}

/* #if … #endif: each branch knows the next one. */
struct branches {
    struct mos_cpp_directive *open[1024];
    size_t count;
};

static void tie_branch(struct branches *b, struct mos_cpp_directive *d) {
    bool opens = d->word == MOS_CPP_IF || d->word == MOS_CPP_IFDEF || d->word == MOS_CPP_IFNDEF;
    bool ends = d->word == MOS_CPP_ENDIF;
    if (opens && b->count == sizeof b->open / sizeof *b->open) {
        d->wrong = "Conditions are nested more than 1024 deep";
        return;
    }
    if (!opens) {
        if (!b->count) {
            d->wrong = "There is no #if before it";
            return;
        }
        struct mos_cpp_directive *before = b->open[b->count - 1];
        if (before->word == MOS_CPP_ELSE && !ends)
            d->wrong = "It stands behind the #else of the same #if";
        before->next = d;
        b->count--;
    }
    if (!ends)
        b->open[b->count++] = d;
}

/* Does 12 "file" stand here? */
static bool is_marker(const char *p, const char *end) {
    while (p < end && class_of(*p) & DIGIT)
        p++;
    while (p < end && class_of(*p) == BLANK)
        p++;
    return p < end && *p == '"';
}

/* At a # that begins a line; false: it is no directive, and passes through. */
static bool take_directive(struct splitter *s, struct branches *b) {
    const char *from = s->p;
    bool space = s->space;
    s->p++;
    skip_blanks(s, false);
    const char *name = s->p;
    struct mos_cpp_token word = {0};
    bool number = name < s->end && class_of(*name) & DIGIT, empty = name == s->end || *name == '\n';
    if (name < s->end && class_of(*name) & LETTER)
        name_or_number(s, &word, false);
    const struct mos_cpp_name *n = word.name;
    const char *stop = s->p;
    bool marker = number && name > from + 1 && is_marker(name, s->end);
    s->space = space;
    if (!empty && !marker && !(n && n->word)) {
        s->p = from;
        return false;
    }
    if (empty)
        return true;
    struct mos_cpp_directive *d = mos_alloc(s->store->texts, sizeof *d);
    d->word = marker ? MOS_CPP_LINE : n->word;
    d->at = from;
    s->p = marker ? name : stop;
    end_run(s);
    take_line(s, d);
    if (d->word == MOS_CPP_INCLUDE || d->word == MOS_CPP_INCLUDE_NEXT)
        d->found = mos_alloc(s->store->texts, sizeof *d->found);
    if (d->word == MOS_CPP_LINE)
        mos_vec_push_pointer(&s->file->lines, d);
    else if (d->word == MOS_CPP_DEFINE)
        d->wrong = take_macro(s, d);
    else if (d->word >= MOS_CPP_IF && d->word <= MOS_CPP_ENDIF)
        tie_branch(b, d);
    s->line_start = s->space = false;
    struct mos_cpp_token *t = push(s);
    t->kind = MOS_CPP_DIRECTIVE;
    t->directive = d;
    t->text = from;
    t->length = 1;
    d->token = (uint32_t)(s->count - 1);
    return true;
}

struct mos_cpp_file *mos_cpp_split(struct mos_cpp_store *store, const struct mos_source *source) {
    struct mos_cpp_file *f = mos_alloc(store->texts, sizeof *f);
    struct branches b;
    b.count = 0;
    f->source = source;
    f->folder = mos_path_folder(store->texts, source->shown_path);
    f->lines = mos_vec_make(store->texts, sizeof(struct mos_cpp_directive *));
    f->joined = mos_vec_make(store->texts, sizeof(struct mos_cpp_joined));
    struct splitter s = {.store = store,
                         .file = f,
                         .p = source->text,
                         .end = source->text + source->length,
                         .line_start = true};
    for (;;) {
        skip_blanks(&s, true);
        if (s.p >= s.end)
            break;
        if (!(s.line_start && *s.p == '#' && take_directive(&s, &b)))
            one_token(&s);
    }
    end_run(&s);
    struct mos_cpp_token *own = mos_alloc_array(store->texts, s.count, sizeof *own);
    if (s.count)
        memcpy(own, s.items, s.count * sizeof *own);
    mos_drop(store->texts, s.items, s.room * sizeof *s.items);
    f->tokens = own;
    f->count = (uint32_t)s.count;
    f->unended = b.count ? b.open[b.count - 1] : NULL;
    return f;
}

size_t mos_cpp_tokens(struct mos_cpp_store *store, struct mos_arena *arena, const char *text,
                      size_t length, const struct mos_cpp_token **tokens) {
    struct splitter s = {.store = store, .p = text, .end = text + length};
    size_t n = 0;
    for (skip_blanks(&s, true); s.p < s.end; skip_blanks(&s, true))
        one_token(&s);
    end_run(&s);
    struct mos_cpp_token *own = mos_alloc_array(arena, s.count, sizeof *own);
    for (size_t i = 0; i < s.count; i++)
        if (s.items[i].kind != MOS_CPP_WORD) {
            own[n] = s.items[i];
            own[n++].flags |= MOS_CPP_MADE;
        }
    mos_drop(store->texts, s.items, s.room * sizeof *s.items);
    *tokens = own;
    return n;
}

const struct mos_cpp_macro *mos_cpp_define(struct mos_cpp_store *store, const char *text) {
    size_t n = strcspn(text, "=");
    const char *line =
        mos_printf(store->arena, "%.*s %s", (int)n, text, text[n] ? text + n + 1 : "1");
    struct mos_cpp_directive d = {.word = MOS_CPP_DEFINE};
    struct splitter s = {.store = store};
    d.count = (uint32_t)mos_cpp_tokens(store, store->arena, line, strlen(line), &d.tokens);
    return take_macro(&s, &d) ? NULL : d.macro;
}

char *mos_cpp_unquoted(struct mos_arena *arena, const struct mos_cpp_token *t) {
    assert(t->kind == MOS_CPP_STRING && t->length >= 2);
    return mos_strndup(arena, t->text + 1, t->length - 2);
}

size_t mos_cpp_offset(const struct mos_cpp_file *file, const char *text) {
    const struct mos_source *s = file->source;
    for (size_t i = 0; i < file->joined.count; i++) {
        const struct mos_cpp_joined *j = mos_vec_at(&file->joined, i);
        if (j->text == text)
            text = j->at;
    }
    return text >= s->text && text <= s->text + s->length ? (size_t)(text - s->text) : 0;
}
