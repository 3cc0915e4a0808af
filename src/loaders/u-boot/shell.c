#include "loaders/u-boot/shell.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

enum { MOST_DEPTH = 200 };

enum token { WORD, JOIN_AND, JOIN_OR, SEMICOLON, LINE_END, TEXT_END, NOT_ALLOWED };

struct reader {
    struct mos_arena *arena;
    const char *text;
    size_t length, at;
    unsigned flags;
    size_t token_at;
    enum token token;
    struct mos_shell_word word;
    bool variables; /* the word has one */
    bool uneven, wrong;
    bool broken; /* … in the midst of a word: the loader calls that wrong, too */
    unsigned depth;
};

static int peek(const struct reader *r) {
    assert(r->at <= r->length);
    return r->at < r->length ? (unsigned char)r->text[r->at] : -1;
}

/* ---- words ---- */

/* Signs that a backslash of their own protects until the word is whole. */
static void add_quoted(struct mos_buf *b, char c, bool quoted) {
    if (quoted && strchr("*?[\\", c))
        mos_buf_char(b, '\\');
    mos_buf_char(b, c);
}

/* At a $: a variable, or just the sign. */
static void read_variable(struct reader *r, struct mos_buf *b, bool quoted) {
    assert(r->at && r->text[r->at - 1] == '$');
    int c = peek(r);
    if (c == '{') {
        const char *name = r->text + ++r->at;
        const char *end = memchr(name, '}', r->length - r->at);
        if (!end) {
            r->uneven = r->broken = true;
            r->at = r->length;
            return;
        }
        r->variables = true;
        mos_buf_char(b, MOS_SHELL_MARK);
        mos_buf_add(b, name, (size_t)(end - name));
        mos_buf_char(b, MOS_SHELL_MARK);
        r->at += (size_t)(end - name) + 1;
    } else if (c == '?' || isalpha(c)) {
        r->variables = true;
        mos_buf_char(b, MOS_SHELL_MARK);
        do
            mos_buf_char(b, r->text[r->at++]);
        while (c != '?' && (isalnum(peek(r)) || peek(r) == '_'));
        mos_buf_char(b, MOS_SHELL_MARK);
    } else {
        add_quoted(b, '$', quoted);
    }
}

/* Text in single quotes: as it is, but for backslashes, which go when the word is whole. */
static void read_single(struct reader *r, struct mos_buf *b) {
    assert(r->at && r->text[r->at - 1] == '\'');
    const char *p = r->text + r->at;
    const char *end = memchr(p, '\'', r->length - r->at);
    if (!end) {
        r->uneven = r->broken = true;
        r->at = r->length;
        return;
    }
    mos_buf_add(b, p, (size_t)(end - p));
    r->at += (size_t)(end - p) + 1;
}

static const char *without_backslashes(struct mos_buf *b) {
    char *to = b->data;
    size_t n = b->length;
    for (size_t i = 0; i < n; i++) {
        if (b->data[i] == '\\' && i + 1 < n)
            i++;
        else if (b->data[i] == '\\')
            continue;
        *to++ = b->data[i];
    }
    if (n)
        *to = 0;
    return mos_buf_string(b);
}

static bool ends_word(const struct reader *r, int c) {
    if (c == -1 || c == ' ' || c == '\t' || c == '\n')
        return true;
    return !(r->flags & MOS_SHELL_AGAIN) && (c == ';' || c == '&' || c == '|');
}

/* A word that begins here; false: only a comment did. */
static bool read_word(struct reader *r) {
    struct mos_buf b = {.arena = r->arena};
    bool quote = false, any = false;
    r->variables = false;
    for (int c; (c = peek(r)) != -1 && (quote || !ends_word(r, c));) {
        r->at++;
        if (c == '\\') {
            add_quoted(&b, '\\', quote);
            c = peek(r);
            if (c == -1)
                r->uneven = r->broken = true;
            else
                add_quoted(&b, r->text[r->at++], quote);
        } else if (c == '\'') {
            any = true;
            read_single(r, &b);
        } else if (c == '"') {
            any = true;
            quote = !quote;
        } else if (c == '$' && !(r->flags & MOS_SHELL_AGAIN)) {
            read_variable(r, &b, quote);
        } else if (c == '#' && !b.length && !quote) {
            while (peek(r) != -1 && peek(r) != '\n')
                r->at++;
        } else if (c != MOS_SHELL_MARK) {
            add_quoted(&b, (char)c, quote);
        }
    }
    r->word = (struct mos_shell_word){without_backslashes(&b), any};
    return b.length || any;
}

/* ---- tokens ---- */

static bool double_sign(struct reader *r, char c) {
    r->at++;
    if (peek(r) != c)
        return false;
    r->at++;
    return true;
}

static void next_token(struct reader *r) {
    for (;;) {
        while (peek(r) == ' ' || peek(r) == '\t')
            r->at++;
        r->token_at = r->at;
        int c = peek(r);
        bool again = r->flags & MOS_SHELL_AGAIN;
        if (c == -1) {
            r->token = TEXT_END;
        } else if (c == '\n') {
            r->at++;
            r->token = LINE_END;
        } else if (!again && c == ';') {
            r->at++;
            r->token = SEMICOLON;
        } else if (!again && (c == '&' || c == '|')) {
            r->token = double_sign(r, (char)c) ? c == '&' ? JOIN_AND : JOIN_OR : NOT_ALLOWED;
        } else if (read_word(r)) {
            r->token = WORD;
        } else {
            continue;
        }
        return;
    }
}

/* ---- lists ---- */

static const char *const reserved[] = {"if",    "then",  "elif", "else", "fi",  "for",
                                       "while", "until", "in",   "do",   "done"};
enum { RESERVED = sizeof reserved / sizeof *reserved };

static bool is_word(const struct reader *r, const char *text) {
    return r->token == WORD && strcmp(r->word.text, text) == 0;
}

static bool is_reserved(const struct reader *r) {
    for (size_t i = 0; i < RESERVED; i++)
        if (is_word(r, reserved[i]))
            return true;
    return false;
}

static struct mos_shell_node *new_node(struct reader *r, enum mos_shell_kind kind) {
    struct mos_shell_node *n = mos_alloc(r->arena, sizeof *n);
    n->kind = kind;
    n->words = mos_vec_make(r->arena, sizeof(struct mos_shell_word));
    return n;
}

static void take_word(struct reader *r, struct mos_shell_node *n) {
    *(struct mos_shell_word *)mos_vec_push(&n->words) = r->word;
    n->variables |= r->variables;
    next_token(r);
}

static struct mos_shell_node *read_list(struct reader *r, bool inside);

/* The reserved word that must stand here. */
static bool expect(struct reader *r, const char *text) {
    if (!is_word(r, text)) {
        r->wrong |= r->token != TEXT_END;
        r->uneven |= r->token == TEXT_END;
        return false;
    }
    next_token(r);
    return true;
}

static void read_if(struct reader *r, struct mos_shell_node *n) {
    n->condition = read_list(r, true);
    if (!expect(r, "then"))
        return;
    n->body = read_list(r, true);
    if (is_word(r, "elif")) {
        n->otherwise = new_node(r, MOS_SHELL_IF);
        next_token(r);
        r->wrong |= ++r->depth > MOST_DEPTH;
        if (!r->wrong)
            read_if(r, n->otherwise);
        r->depth--;
        return;
    }
    if (is_word(r, "else")) {
        next_token(r);
        n->otherwise = read_list(r, true);
    }
    expect(r, "fi");
}

static void read_loop(struct reader *r, struct mos_shell_node *n) {
    if (n->kind == MOS_SHELL_FOR) {
        if (r->token != WORD) {
            r->wrong |= r->token != TEXT_END;
            r->uneven |= r->token == TEXT_END;
            return;
        }
        take_word(r, n);
        if (!expect(r, "in"))
            return;
        while (r->token == WORD)
            take_word(r, n);
        while (r->token == SEMICOLON || r->token == LINE_END)
            next_token(r);
    } else {
        n->condition = read_list(r, true);
    }
    if (!expect(r, "do"))
        return;
    n->body = read_list(r, true);
    expect(r, "done");
}

static struct mos_shell_node *read_compound(struct reader *r) {
    static const struct {
        const char *word;
        enum mos_shell_kind kind;
    } kinds[] = {{"if", MOS_SHELL_IF},
                 {"for", MOS_SHELL_FOR},
                 {"while", MOS_SHELL_WHILE},
                 {"until", MOS_SHELL_UNTIL}};
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++) {
        if (!is_word(r, kinds[i].word))
            continue;
        struct mos_shell_node *n = new_node(r, kinds[i].kind);
        if (++r->depth > MOST_DEPTH) {
            r->wrong = true;
            return n;
        }
        next_token(r);
        if (n->kind == MOS_SHELL_IF)
            read_if(r, n);
        else
            read_loop(r, n);
        r->depth--;
        return n;
    }
    return NULL;
}

static struct mos_shell_node *read_command(struct reader *r) {
    struct mos_shell_node *n = r->flags & MOS_SHELL_AGAIN ? NULL : read_compound(r);
    if (n) {
        r->wrong |= !r->uneven && r->token == WORD && !is_reserved(r);
        return n;
    }
    n = new_node(r, MOS_SHELL_COMMAND);
    while (r->token == WORD)
        take_word(r, n);
    return n;
}

/* Does a list inside of if, for … end here? */
static bool list_ends(const struct reader *r) {
    static const char *const ends[] = {"then", "elif", "else", "fi", "do", "done", "in"};
    if (r->flags & MOS_SHELL_AGAIN)
        return false;
    for (size_t i = 0; i < sizeof ends / sizeof *ends; i++)
        if (is_word(r, ends[i]))
            return true;
    return false;
}

/* Commands up to the end of the line, or, inside of something, up to a word that ends them. */
static struct mos_shell_node *read_list(struct reader *r, bool inside) {
    struct mos_shell_node *first = NULL, **link = &first, *last = NULL;
    bool lines = inside || r->flags & MOS_SHELL_WHOLE;
    while (!r->wrong && !r->uneven && r->token != TEXT_END) {
        if (r->token == SEMICOLON || r->token == JOIN_AND || r->token == JOIN_OR ||
            (r->token == LINE_END && lines)) {
            next_token(r);
        } else if (r->token == LINE_END) {
            break;
        } else if (r->token != WORD) {
            r->wrong = true; /* a single & or | */
        } else if (list_ends(r)) {
            r->wrong |= !inside;
            break;
        } else {
            *link = last = read_command(r);
            link = &last->next;
            if (r->token == JOIN_AND || r->token == JOIN_OR)
                last->join = r->token == JOIN_AND ? MOS_SHELL_AND : MOS_SHELL_OR;
        }
    }
    return first;
}

enum mos_shell_result mos_shell_read(struct mos_arena *arena, const char *text, size_t length,
                                     size_t *offset, unsigned flags, struct mos_shell_node **out) {
    assert(*offset <= length);
    struct reader r = {
        .arena = arena, .text = text, .length = length, .at = *offset, .flags = flags};
    *out = NULL;
    if (r.at >= length)
        return MOS_SHELL_DONE;
    next_token(&r);
    struct mos_shell_node *list = read_list(&r, false);
    *offset = r.wrong ? r.token_at : r.at;
    if (r.wrong || r.broken)
        return MOS_SHELL_WRONG;
    if (r.uneven)
        return MOS_SHELL_UNEVEN;
    *out = list;
    return MOS_SHELL_LIST;
}
