#include "kconfig/parse.h"

#include <string.h>

enum { DEEPEST = 100, DEEPEST_EXPR = 200, MOST_FILES = 20000, LARGEST = 16 << 20 };

/* ---- symbols and expressions ---- */

static struct mos_kc_symbol *new_symbol(struct mos_kc_tree *tree, const char *name) {
    struct mos_kc_symbol *s = mos_alloc(tree->arena, sizeof *s);
    s->name = name;
    s->index = (uint32_t)tree->all.count;
    mos_vec_push_pointer(&tree->all, s);
    return s;
}

struct mos_kc_symbol *kc_symbol(struct mos_kc_tree *tree, const char *name, bool quoted) {
    if (*name && !name[1] && strchr("nmy", *name))
        quoted = true;
    struct mos_map *map = quoted ? &tree->quoted : &tree->symbols;
    struct mos_kc_symbol *s = mos_map_get(map, name);
    if (!s) {
        s = new_symbol(tree, mos_strndup(tree->arena, name, strlen(name)));
        s->constant = quoted;
        mos_map_set(map, s->name, s);
    }
    return s;
}

struct mos_kc_symbol *mos_kc_find(const struct mos_kc_tree *tree, const char *name) {
    return mos_map_get(&tree->symbols, name);
}

const char *mos_kc_type_word(enum mos_kc_type type) {
    static const char *const words[] = {"unknown", "bool", "tristate", "int", "hex", "string"};
    return words[type];
}

static struct mos_kc_expr *new_expr(struct mos_kc_tree *tree, enum mos_kc_op op) {
    struct mos_kc_expr *e = mos_alloc(tree->arena, sizeof *e);
    e->op = op;
    e->index = tree->expr_count++;
    return e;
}

const struct mos_kc_expr *kc_expr_symbol(struct mos_kc_tree *tree, struct mos_kc_symbol *symbol) {
    struct mos_kc_expr *e = new_expr(tree, MOS_KC_SYMBOL);
    e->symbol = symbol;
    return e;
}

const struct mos_kc_expr *kc_expr(struct mos_kc_tree *tree, enum mos_kc_op op,
                                  const struct mos_kc_expr *a, const struct mos_kc_expr *b) {
    struct mos_kc_expr *e = new_expr(tree, op);
    e->left = a;
    e->right = b;
    uint16_t depth = b && b->depth > a->depth ? b->depth : a->depth;
    e->depth = depth < UINT16_MAX ? depth + 1 : depth;
    return e;
}

const struct mos_kc_expr *kc_and(struct mos_kc_tree *tree, const struct mos_kc_expr *a,
                                 const struct mos_kc_expr *b) {
    return !a ? b : !b ? a : kc_expr(tree, MOS_KC_AND, a, b);
}

/* ---- the parser's expressions ---- */

static bool is_sign(const struct kc_parser *p, const char *sign) {
    return p->token.kind == KC_SIGN && strcmp(p->token.text, sign) == 0;
}

static bool is_word(const struct kc_parser *p, const char *word) {
    return p->token.kind == KC_WORD && strcmp(p->token.text, word) == 0;
}

static bool operand(struct kc_parser *p, struct mos_kc_symbol **out) {
    if (p->token.kind != KC_WORD && p->token.kind != KC_STRING)
        return kc_wrong(p, "A symbol or a text is missing here");
    *out = kc_symbol(p->tree, p->token.text, p->token.kind == KC_STRING);
    return kc_next(p);
}

static bool any_of(struct kc_parser *p, unsigned depth, const struct mos_kc_expr **out);

static bool comparison(struct kc_parser *p, const struct mos_kc_expr **out) {
    static const struct {
        const char *sign;
        enum mos_kc_op op;
    } signs[] = {{"=", MOS_KC_EQUAL}, {"!=", MOS_KC_UNEQUAL},    {"<", MOS_KC_LESS},
                 {">", MOS_KC_MORE},  {"<=", MOS_KC_LESS_EQUAL}, {">=", MOS_KC_MORE_EQUAL}};
    struct mos_kc_symbol *a = NULL, *b = NULL;
    if (!operand(p, &a))
        return false;
    for (size_t i = 0; i < sizeof signs / sizeof *signs; i++) {
        if (!is_sign(p, signs[i].sign))
            continue;
        if (!kc_next(p) || !operand(p, &b))
            return false;
        struct mos_kc_expr *e = new_expr(p->tree, signs[i].op);
        e->symbol = a;
        e->other = b;
        *out = e;
        return true;
    }
    *out = kc_expr_symbol(p->tree, a);
    return true;
}

static bool primary(struct kc_parser *p, unsigned depth, const struct mos_kc_expr **out) {
    if (depth > DEEPEST_EXPR)
        return kc_wrong(p, "Expressions are nested more than %d deep", DEEPEST_EXPR);
    if (is_sign(p, "!")) {
        if (!kc_next(p) || !primary(p, depth + 1, out))
            return false;
        *out = kc_expr(p->tree, MOS_KC_NOT, *out, NULL);
        return true;
    }
    if (!is_sign(p, "("))
        return comparison(p, out);
    if (!kc_next(p) || !any_of(p, depth + 1, out))
        return false;
    return is_sign(p, ")") ? kc_next(p) : kc_wrong(p, "A closing parenthesis is missing here");
}

const struct mos_kc_expr *kc_row(struct mos_kc_tree *tree, enum mos_kc_op op,
                                 const struct mos_vec *row, size_t from, size_t count) {
    if (count == 1)
        return mos_vec_pointer(row, from);
    const struct mos_kc_expr *a = kc_row(tree, op, row, from, count / 2),
                             *b = kc_row(tree, op, row, from + count / 2, count - count / 2);
    return kc_expr(tree, op, a, b);
}

static bool row_of(struct kc_parser *p, unsigned depth, enum mos_kc_op op,
                   const struct mos_kc_expr **out) {
    struct mos_vec row = mos_vec_make(p->arena, sizeof(void *));
    const char *sign = op == MOS_KC_AND ? "&&" : "||";
    for (;;) {
        const struct mos_kc_expr *e;
        if (op == MOS_KC_AND ? !primary(p, depth, &e) : !row_of(p, depth, MOS_KC_AND, &e))
            return false;
        mos_vec_push_pointer(&row, e);
        if (!is_sign(p, sign))
            break;
        if (!kc_next(p))
            return false;
    }
    *out = kc_row(p->tree, op, &row, 0, row.count);
    return true;
}

static bool any_of(struct kc_parser *p, unsigned depth, const struct mos_kc_expr **out) {
    return row_of(p, depth, MOS_KC_OR, out);
}

/* ---- attributes ---- */

static bool at_end(struct kc_parser *p) {
    return p->token.kind == KC_END || kc_wrong(p, "The line should end before %s", p->token.text);
}

/* [if EXPR], and the line's end. */
static bool condition(struct kc_parser *p, const struct mos_kc_expr **out) {
    *out = NULL;
    if (is_word(p, "if"))
        return kc_next(p) && any_of(p, 0, out) && at_end(p);
    return at_end(p);
}

static struct mos_kc_property *add(struct kc_parser *p, enum mos_kc_kind kind) {
    struct mos_kc_property *q = mos_alloc(p->tree->arena, sizeof *q);
    struct mos_kc_symbol *s = p->entry->symbol;
    q->entry = p->entry;
    q->place = kc_place(p);
    if (s->last[kind])
        s->last[kind]->next = q;
    else
        s->first[kind] = q;
    s->last[kind] = q;
    return q;
}

static bool prompt(struct kc_parser *p) {
    if (p->token.kind != KC_STRING && p->token.kind != KC_WORD)
        return kc_wrong(p, "The text of the prompt is missing here");
    struct mos_kc_property *q = add(p, MOS_KC_PROMPT);
    q->text = mos_strndup(p->tree->arena, p->token.text, strlen(p->token.text));
    return kc_next(p) && condition(p, &q->stated);
}

static void set_type(struct kc_parser *p, enum mos_kc_type type) {
    struct mos_kc_symbol *s = p->entry->symbol;
    if (s->type == MOS_KC_UNKNOWN)
        s->type = type;
}

static bool default_value(struct kc_parser *p) {
    struct mos_kc_property *q = add(p, MOS_KC_DEFAULT);
    return any_of(p, 0, &q->value) && condition(p, &q->stated);
}

static bool target(struct kc_parser *p, enum mos_kc_kind kind) {
    if (p->token.kind != KC_WORD)
        return kc_wrong(p, "The name of a symbol is missing here");
    struct mos_kc_property *q = add(p, kind);
    q->symbol = kc_symbol(p->tree, p->token.text, false);
    return kc_next(p) && condition(p, &q->stated);
}

static bool range(struct kc_parser *p) {
    struct mos_kc_property *q = add(p, MOS_KC_RANGE);
    return operand(p, &q->symbol) && operand(p, &q->upper) && condition(p, &q->stated);
}

static bool depends(struct kc_parser *p) {
    const struct mos_kc_expr *e;
    if (is_word(p, "on") && !kc_next(p))
        return false;
    if (!any_of(p, 0, &e) || !at_end(p))
        return false;
    p->entry->stated = kc_and(p->tree, p->entry->stated, e);
    return p->entry->stated->depth <= DEEPEST_EXPR * 2 ||
           kc_wrong(p, "This entry has too many conditions");
}

static bool option(struct kc_parser *p) {
    const char *name = p->token.text;
    if (p->token.kind != KC_WORD || !kc_next(p))
        return kc_wrong(p, "The name of an option is missing here");
    if (strcmp(name, "modules") == 0)
        p->tree->modules = p->entry->symbol;
    if (!is_sign(p, "="))
        return at_end(p);
    if (!kc_next(p))
        return false;
    if (strcmp(name, "env") == 0) {
        const char *value = mos_map_get(&p->reading->vars, p->token.text);
        mos_map_set_const(&p->tree->used, p->token.text, value ? value : "");
        struct mos_kc_property *q = add(p, MOS_KC_DEFAULT);
        q->value = kc_expr_symbol(p->tree, kc_symbol(p->tree, value ? value : "", true));
        p->entry->symbol->from_environment = true;
    }
    return kc_next(p) && at_end(p);
}

static const struct {
    const char *word;
    enum mos_kc_type type;
    bool value; /* a default follows, else perhaps a prompt */
} types[] = {{"bool", MOS_KC_BOOL, false},         {"boolean", MOS_KC_BOOL, false},
             {"tristate", MOS_KC_TRISTATE, false}, {"int", MOS_KC_INT, false},
             {"hex", MOS_KC_HEX, false},           {"string", MOS_KC_STRING, false},
             {"def_bool", MOS_KC_BOOL, true},      {"def_tristate", MOS_KC_TRISTATE, true}};

/* 1: it was an attribute; 0: it is none; -1: ctx->error. */
static int symbol_attribute(struct kc_parser *p, const char *word) {
    if (!p->entry->symbol)
        return 0;
    for (size_t i = 0; i < sizeof types / sizeof *types; i++) {
        if (strcmp(types[i].word, word) != 0)
            continue;
        set_type(p, types[i].type);
        if (!kc_next(p))
            return -1;
        if (types[i].value)
            return default_value(p) ? 1 : -1;
        return p->token.kind == KC_END || prompt(p) ? 1 : -1;
    }
    static const struct {
        const char *word;
        bool (*read)(struct kc_parser *p);
    } others[] = {
        {"prompt", prompt}, {"default", default_value}, {"range", range}, {"option", option}};
    for (size_t i = 0; i < sizeof others / sizeof *others; i++)
        if (strcmp(others[i].word, word) == 0)
            return kc_next(p) && others[i].read(p) ? 1 : -1;
    if (strcmp(word, "select") == 0)
        return kc_next(p) && target(p, MOS_KC_SELECT) ? 1 : -1;
    if (strcmp(word, "imply") == 0)
        return kc_next(p) && target(p, MOS_KC_IMPLY) ? 1 : -1;
    bool flag = strcmp(word, "modules") == 0 || strcmp(word, "optional") == 0 ||
                strcmp(word, "transitional") == 0;
    if (!flag)
        return 0;
    if (*word == 'm')
        p->tree->modules = p->entry->symbol;
    else if (*word == 'o')
        p->entry->symbol->optional = true;
    return kc_next(p) && at_end(p) ? 1 : -1;
}

static int attribute(struct kc_parser *p, const char *word) {
    if (strcmp(word, "depends") == 0 || strcmp(word, "requires") == 0)
        return kc_next(p) && depends(p) ? 1 : -1;
    if (strcmp(word, "help") == 0 || strcmp(word, "---help---") == 0) {
        p->entry->help = kc_help(p);
        return 1;
    }
    if (strcmp(word, "visible") == 0 && p->entry->kind == MOS_KC_ENTRY_MENU) {
        const struct mos_kc_expr *e;
        if (!kc_next(p) || !condition(p, &e))
            return -1;
        p->entry->visible_if = kc_and(p->tree, p->entry->visible_if, e);
        if (p->entry->visible_if && p->entry->visible_if->depth > DEEPEST_EXPR * 2)
            return kc_wrong(p, "This menu has too many conditions"), -1;
        return 1;
    }
    return symbol_attribute(p, word);
}

/* ---- statements ---- */

static struct mos_kc_entry *open_entry(struct kc_parser *p, enum mos_kc_entry_kind kind) {
    struct mos_kc_entry *e = mos_alloc(p->tree->arena, sizeof *e);
    e->kind = kind;
    e->parent = p->parent;
    e->place = kc_place(p);
    *(p->parent->last ? &p->parent->last->next : &p->parent->first) = e;
    p->parent->last = e;
    p->entry = e;
    return e;
}

static void declare(struct mos_kc_symbol *s, struct mos_kc_entry *e) {
    struct mos_kc_entry **last = &s->entry;
    while (*last)
        last = &(*last)->again;
    *last = e;
    e->symbol = s;
}

static bool open_config(struct kc_parser *p) {
    if (p->token.kind != KC_WORD)
        return kc_wrong(p, "The name of the symbol is missing here");
    struct mos_kc_symbol *s = kc_symbol(p->tree, p->token.text, false);
    declare(s, open_entry(p, MOS_KC_ENTRY_CONFIG));
    return kc_next(p) && at_end(p);
}

static bool open_choice(struct kc_parser *p) {
    struct mos_kc_symbol *s = NULL;
    if (p->token.kind == KC_WORD) {
        s = kc_symbol(p->tree, p->token.text, false);
        if (!kc_next(p))
            return false;
    }
    s = s ? s : new_symbol(p->tree, NULL);
    s->is_choice = true;
    declare(s, open_entry(p, MOS_KC_ENTRY_CHOICE));
    return at_end(p);
}

static bool open_text(struct kc_parser *p, enum mos_kc_entry_kind kind) {
    if (p->token.kind != KC_STRING && p->token.kind != KC_WORD)
        return kc_wrong(p, "The text of the entry is missing here");
    struct mos_kc_entry *e = open_entry(p, kind);
    e->text = mos_strndup(p->tree->arena, p->token.text, strlen(p->token.text));
    return kc_next(p) && condition(p, &e->stated);
}

static bool open_if(struct kc_parser *p) {
    struct mos_kc_entry *e = open_entry(p, MOS_KC_ENTRY_IF);
    return any_of(p, 0, &e->stated) && at_end(p);
}

static bool enter(struct kc_parser *p) {
    if (++p->depth > DEEPEST)
        return kc_wrong(p, "Blocks are nested more than %d deep", DEEPEST);
    p->parent = p->entry;
    p->file->blocks++;
    return true;
}

static bool leave(struct kc_parser *p, enum mos_kc_entry_kind kind, const char *word) {
    if (p->parent->kind != kind || !p->file->blocks)
        return kc_wrong(p, "There is nothing in this file that %s ends", word);
    p->depth--;
    p->file->blocks--;
    p->parent = p->parent->parent;
    p->entry = NULL;
    return kc_next(p) && at_end(p);
}

static bool read_file(struct kc_parser *p, const char *path);

static bool source(struct kc_parser *p) {
    if (p->token.kind != KC_STRING && p->token.kind != KC_WORD)
        return kc_wrong(p, "The path of a file is missing here");
    const char *path = mos_strndup(p->arena, p->token.text, strlen(p->token.text));
    struct kc_token here = p->token;
    if (!kc_next(p) || !at_end(p))
        return false;
    if (strchr(path, MOS_KC_GUESS))
        return true; /* its name hangs on a probe that is still to run */
    unsigned files = 0;
    for (const struct kc_file *f = p->file; f; f = f->above, files++)
        if (strcmp(f->path, path) == 0) {
            p->token = here;
            return kc_wrong(p, "%s sources itself", path);
        }
    p->token = here;
    if (files > DEEPEST)
        return kc_wrong(p, "Files are nested more than %d deep", DEEPEST);
    p->entry = NULL;
    return read_file(p, path);
}

static bool statement(struct kc_parser *p) {
    const char *word = p->token.text, *value;
    char op;
    if (p->token.kind != KC_WORD)
        return kc_wrong(p, "A line begins with a word, not with this");
    if (kc_is_assignment(p, &op, &value))
        return mos_kc_assign(&p->macros, word, op, value);
    if (p->entry) {
        int done = attribute(p, word);
        if (done)
            return done > 0;
    }
    static const struct {
        const char *word;
        enum mos_kc_entry_kind kind;
    } ends[] = {{"endmenu", MOS_KC_ENTRY_MENU},
                {"endchoice", MOS_KC_ENTRY_CHOICE},
                {"endif", MOS_KC_ENTRY_IF}};
    for (size_t i = 0; i < sizeof ends / sizeof *ends; i++)
        if (strcmp(ends[i].word, word) == 0)
            return leave(p, ends[i].kind, word);
    p->entry = NULL;
    struct kc_token here = p->token;
    if (strcmp(word, "config") == 0 || strcmp(word, "menuconfig") == 0)
        return kc_next(p) && open_config(p);
    if (strcmp(word, "choice") == 0)
        return kc_next(p) && open_choice(p) && enter(p);
    if (strcmp(word, "menu") == 0)
        return kc_next(p) && open_text(p, MOS_KC_ENTRY_MENU) && enter(p);
    if (strcmp(word, "comment") == 0)
        return kc_next(p) && open_text(p, MOS_KC_ENTRY_COMMENT);
    if (strcmp(word, "if") == 0)
        return kc_next(p) && open_if(p) && enter(p) && (p->entry = NULL, true);
    if (strcmp(word, "source") == 0)
        return kc_next(p) && source(p);
    if (strcmp(word, "mainmenu") == 0) {
        if (!kc_next(p))
            return false;
        p->tree->root->text = mos_strndup(p->tree->arena, p->token.text, strlen(p->token.text));
        return kc_next(p) && at_end(p);
    }
    p->token = here;
    return kc_wrong(p, "%s begins no statement", word);
}

static struct mos_source *open_source(struct kc_parser *p, const char *path) {
    struct mos_source *s = mos_map_get(&p->sources, path);
    if (s)
        return s;
    const char *whole = mos_path_join(p->ctx->arena, p->reading->source, path);
    const char *shown = mos_path_join(p->ctx->arena, p->reading->shown, path);
    s = mos_source_load(p->ctx, whole, shown, LARGEST);
    if (s)
        mos_map_set(&p->sources, mos_strndup(p->ctx->arena, path, strlen(path)), s);
    return s;
}

static bool read_file(struct kc_parser *p, const char *path) {
    struct kc_file *above = p->file;
    struct mos_source *s = open_source(p, path);
    if (!s) {
        if (above) {
            struct mos_position at = mos_source_position(above->source, p->token.offset);
            mos_while(p->ctx->error, "reading %s:%u", above->source->shown_path, at.line);
        }
        return false;
    }
    if (++p->tree->file_count > MOST_FILES)
        return kc_wrong(p, "The tree has more than %d files", MOST_FILES);
    struct kc_file f = {.above = above, .source = s, .path = path};
    p->file = &f;
    p->macros.path = path;
    bool good = true;
    while (good && kc_next_line(p))
        good = statement(p);
    good = good && !p->ctx->error->kind;
    if (good && f.blocks) {
        p->token = (struct kc_token){KC_END, "", p->parent->place.offset, p->parent->place.length};
        good = kc_wrong(p, "This block is not ended in its file");
    }
    p->file = above;
    p->macros.path = above ? above->path : path;
    p->entry = NULL;
    return good;
}

bool kc_parse(struct kc_parser *p) {
    struct mos_kc_tree *t = p->tree;
    t->n = kc_symbol(t, "n", true);
    t->m = kc_symbol(t, "m", true);
    t->y = kc_symbol(t, "y", true);
    t->n->type = t->m->type = t->y->type = MOS_KC_TRISTATE;
    t->root = mos_alloc(t->arena, sizeof *t->root);
    p->parent = t->root;
    return read_file(p, p->reading->start ? p->reading->start : "Kconfig");
}
