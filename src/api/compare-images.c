/* compare IMAGE IMAGE: tables, regions and files that differ. */
#include "api/compare.h"

#include "base/bytes.h"
#include "base/text.h"
#include "content/attributes.h"

#include <stdlib.h>
#include <string.h>

enum { PIECE = 1 << 20, MOST_ROWS = 10 }; /* a longer list begins with a summary */

static const struct mosaicum_column columns[] = {{"region", "region", false},
                                                 {"change", "change", false},
                                                 {"thing", "thing", false},
                                                 {"a", "a", false},
                                                 {"b", "b", false}};

/* An entry of one side. */
struct item {
    enum mos_entry_type type;
    uint16_t mode;
    uint32_t uid, gid, major, minor;
    uint64_t size, sum;
    int64_t mtime;
    const char *target;
    const uint8_t *attributes;
    size_t attributes_length;
    bool met; /* on the other side too */
};

struct side {
    struct survey *s;
    struct mos_map items; /* path -> struct item * */
    const struct side *other;
    struct item *current;
    bool summing; /* the second time through: only sums are taken */
};

struct comparison {
    mosaicum *m;
    struct mos_vec list; /* of struct difference */
    const char *region;
    const struct survey_span *at; /* … where it lies in a */
    uint64_t dates;               /* files of which only the date differs */
    bool table_told;              /* rows tell what differs in the table */
    const char *releases[2];      /* of kernels whose modules lie in a and b; NULL: none */
};

static struct difference *row(struct comparison *c, const char *change, const char *thing,
                              const char *a, const char *b) {
    struct difference *d = mos_vec_push(&c->list);
    *d = (struct difference){
        .region = c->region, .change = change, .thing = thing, .a = a, .b = b, .at = c->at};
    return d;
}

/* What is told from now on is of this region of a, or of b where a has none. */
static void enter(struct comparison *c, struct survey *s, const struct survey_span *x, bool of_a) {
    c->region = survey_name(s, x);
    c->at = of_a ? x : NULL;
}

/* ---- volumes ---- */

static bool take_entry(void *self, const struct mos_entry *e) {
    struct side *x = self;
    struct mos_arena *arena = x->s->m->arena;
    x->current = mos_map_get(&x->items, e->path);
    if (x->summing)
        return true;
    struct item *i = x->current = mos_alloc(arena, sizeof *i);
    *i = (struct item){.type = e->type,
                       .mode = e->mode,
                       .uid = (uint32_t)e->uid,
                       .gid = (uint32_t)e->gid,
                       .major = e->major,
                       .minor = e->minor,
                       .size = e->size,
                       .mtime = e->mtime,
                       .target = e->target ? mos_strdup(arena, e->target) : NULL,
                       .attributes_length = e->attributes_length};
    if (e->attributes_length) {
        uint8_t *copy = mos_alloc(arena, e->attributes_length);
        memcpy(copy, e->attributes, e->attributes_length);
        i->attributes = copy;
    }
    mos_map_set(&x->items, mos_strdup(arena, e->path), i);
    return true;
}

static bool take_end(void *self, uint64_t sum) {
    struct side *x = self;
    if (x->summing && x->current)
        x->current->sum = sum;
    return true;
}

/* Data is read only where the other side has a file of the same size. */
static bool wants(void *self, const struct mos_entry *e) {
    const struct side *x = self;
    const struct item *o = mos_map_get(&x->other->items, e->path);
    return x->summing && o && o->type == e->type && o->size == e->size && e->size;
}

static bool gather(struct side *x, const struct survey_span *span, bool summing) {
    struct mos_sink sink = {x, take_entry, mos_ignore_data, take_end};
    struct mos_read_request request = {.sink = &sink, .wants = wants, .self = x};
    x->summing = summing;
    return survey_stream(x->s, span, &request);
}

static const char *what_text(struct mos_arena *arena, const struct item *i) {
    switch (i->type) {
    case MOS_ENTRY_FILE:
        return mos_size_text(arena, i->size);
    case MOS_ENTRY_FOLDER:
        return "folder";
    case MOS_ENTRY_LINK:
        return mos_printf(arena, "link to %s", i->target);
    case MOS_ENTRY_HARD_LINK:
        return mos_printf(arena, "same file as %s", i->target);
    default:
        return mos_printf(arena, "device %u, %u", i->major, i->minor);
    }
}

static const char *rights_text(struct mos_arena *arena, const struct item *i) {
    const char *names = mos_attribute_names(arena, i->attributes, i->attributes_length);
    return mos_printf(arena, "%04o %u:%u%s%s", i->mode, i->uid, i->gid, names ? " " : "",
                      names ? names : "");
}

static bool same_content(const struct item *a, const struct item *b) {
    if (a->type != b->type || a->size != b->size || a->sum != b->sum || a->major != b->major ||
        a->minor != b->minor)
        return false;
    return !a->target || !b->target || strcmp(a->target, b->target) == 0;
}

static bool same_rights(const struct item *a, const struct item *b) {
    return a->mode == b->mode && a->uid == b->uid && a->gid == b->gid &&
           a->attributes_length == b->attributes_length &&
           (!a->attributes_length ||
            memcmp(a->attributes, b->attributes, a->attributes_length) == 0);
}

/* Kernels that have a folder of modules, as it is named. */
static void note_releases(struct comparison *c, const struct side *x, const char **out) {
    static const char *const folders[] = {"lib/modules/", "usr/lib/modules/"};
    for (size_t i = 0; i < x->items.count; i++)
        for (size_t k = 0; k < 2; k++) {
            const char *path = x->items.items[i].key;
            size_t n = strlen(folders[k]);
            if (strncmp(path, folders[k], n) != 0 || strchr(path + n, '/'))
                continue;
            *out = *out ? mos_printf(c->m->arena, "%s and %s", *out, path + n)
                        : mos_strdup(c->m->arena, path + n);
        }
}

static void compare_items(struct comparison *c, struct side *a, struct side *b) {
    struct mos_arena *arena = c->m->arena;
    for (size_t i = 0; i < a->items.count; i++) {
        const char *path = a->items.items[i].key;
        const struct item *x = a->items.items[i].value;
        struct item *y = mos_map_get(&b->items, path);
        const char *thing = mos_printf(arena, "/%s", path);
        if (!y) {
            row(c, "removed", thing, what_text(arena, x), NULL);
            continue;
        }
        y->met = true;
        if (!same_content(x, y)) {
            bool sizes = x->type != y->type || x->size != y->size || x->target;
            row(c, "changed", thing, what_text(arena, x),
                sizes ? what_text(arena, y) : "same size, other content");
        }
        if (x->type == y->type && !same_rights(x, y)) {
            const char *was = rights_text(arena, x), *is = rights_text(arena, y);
            row(c, "owner or mode", thing, was, strcmp(was, is) ? is : "same names, other values");
        }
        c->dates += same_content(x, y) && same_rights(x, y) && x->mtime != y->mtime;
    }
    for (size_t i = 0; i < b->items.count; i++) {
        const struct item *y = b->items.items[i].value;
        if (!y->met)
            row(c, "added", mos_printf(arena, "/%s", b->items.items[i].key), NULL,
                what_text(arena, y));
    }
}

static bool compare_volumes(struct comparison *c, struct survey *s, const struct survey_span *x,
                            struct survey *t, const struct survey_span *y, uint64_t bytes) {
    struct side a = {.s = s, .items = mos_map_make(c->m->arena)};
    struct side b = {.s = t, .items = mos_map_make(c->m->arena)};
    a.other = &b;
    b.other = &a;
    if (!gather(&a, x, false) || !gather(&b, y, false))
        return false;
    size_t before = s->problems.count, after = t->problems.count;
    if (!gather(&a, x, true) || !gather(&b, y, true))
        return false;
    s->problems.count = before; /* the same ones again */
    t->problems.count = after;
    size_t rows = c->list.count;
    note_releases(c, &a, &c->releases[0]);
    note_releases(c, &b, &c->releases[1]);
    compare_items(c, &a, &b);
    if (rows == c->list.count && !c->dates)
        row(c, "bytes",
            mos_printf(c->m->arena, "no file differs, %llu bytes between them do",
                       (unsigned long long)bytes),
            NULL, NULL)
            ->equal_files = true;
    if (c->dates)
        row(c, "dates", mos_printf(c->m->arena, "of %llu entries", (unsigned long long)c->dates),
            NULL, NULL);
    c->dates = 0;
    return true;
}

/* ---- bytes ---- */

static bool is_extended(struct survey *s, const struct survey_span *x) {
    const char *type = x->partition ? s->driver->type_name(x->partition->type) : NULL;
    return type && strcmp(type, "extended") == 0;
}

static void bytes_row(struct comparison *c, uint64_t count, uint64_t first) {
    row(c, "bytes",
        mos_printf(c->m->arena, "%llu of them, from %s on", (unsigned long long)count,
                   mos_size_text(c->m->arena, first)),
        NULL, NULL);
}

/* The first differing byte and how many differ; false: cannot be read. */
static bool compare_bytes(struct comparison *c, struct mos_io *a, struct mos_io *b, uint64_t *first,
                          uint64_t *count) {
    uint64_t size = mos_min(a->size, b->size);
    uint8_t *x = mos_alloc(c->m->arena, PIECE), *y = mos_alloc(c->m->arena, PIECE);
    *count = 0;
    for (uint64_t at = 0; at < size;) {
        uint64_t start_a, start_b, end;
        int e = mos_io_next_data(a, at, &start_a, &end);
        if (!e)
            e = mos_io_next_data(b, at, &start_b, &end);
        at = e ? at : mos_min(start_a, start_b);
        size_t n = (size_t)mos_min(PIECE, at < size ? size - at : 0);
        if (!e && n)
            e = mos_io_read(a, x, n, at);
        if (!e && n)
            e = mos_io_read(b, y, n, at);
        if (e)
            return mos_fail(&c->m->error, MOS_ERROR_SYSTEM, e, "Cannot read an image");
        if (n && memcmp(x, y, n) != 0)
            for (size_t i = 0; i < n; i++)
                if (x[i] != y[i] && !(*count)++)
                    *first = at + i;
        at += n;
    }
    return true;
}

static void compare_environments(struct comparison *c, const struct survey_span *x,
                                 const struct survey_span *y) {
    for (size_t i = 0; i < x->variables.count; i++) {
        const struct mos_loader_variable *was = x->variables.items[i].value;
        const struct mos_loader_variable *now = mos_map_get(&y->variables, was->name);
        if (!now)
            row(c, "removed", was->name, was->value, NULL);
        else if (strcmp(now->value, was->value) != 0)
            row(c, "changed", was->name, was->value, now->value);
    }
    for (size_t i = 0; i < y->variables.count; i++)
        if (!mos_map_get(&x->variables, y->variables.items[i].key))
            row(c, "added", y->variables.items[i].key, NULL,
                ((struct mos_loader_variable *)y->variables.items[i].value)->value);
}

static bool compare_spans(struct comparison *c, struct survey *s, const struct survey_span *x,
                          struct survey *t, const struct survey_span *y);

static const struct survey_span *held_like(struct survey *t, const struct survey_span *y,
                                           const struct survey_span *like) {
    for (size_t i = 0; i < y->held_count; i++) {
        const struct survey_span *z = mos_vec_at(&t->held, y->held_from + i);
        if (strcmp(z->held->name, like->held->name) == 0)
            return z;
    }
    return NULL;
}

/* Volumes in two containers, by name. */
static bool compare_held(struct comparison *c, struct survey *s, const struct survey_span *x,
                         struct survey *t, const struct survey_span *y) {
    for (size_t i = 0; i < x->held_count; i++) {
        const struct survey_span *a = mos_vec_at(&s->held, x->held_from + i),
                                 *b = held_like(t, y, a);
        enter(c, s, a, true);
        if (!b)
            row(c, "removed", NULL, mos_size_text(c->m->arena, a->length), NULL);
        else if (!compare_spans(c, s, a, t, b))
            return false;
    }
    for (size_t i = 0; i < y->held_count; i++) {
        const struct survey_span *b = mos_vec_at(&t->held, y->held_from + i);
        enter(c, t, b, false);
        if (!held_like(s, x, b))
            row(c, "added", NULL, NULL, mos_size_text(c->m->arena, b->length));
    }
    enter(c, s, x, true);
    return true;
}

static bool compare_spans(struct comparison *c, struct survey *s, const struct survey_span *x,
                          struct survey *t, const struct survey_span *y) {
    struct mos_arena *arena = c->m->arena;
    struct mos_io a = survey_window(s, x), b = survey_window(t, y);
    uint64_t first = 0, count = 0;
    enter(c, s, x, true);
    if (is_extended(s, x))
        return true; /* what lies in it comes by itself */
    if (x->length != y->length)
        row(c, "size", NULL, mos_size_text(arena, x->length), mos_size_text(arena, y->length))
            ->larger = y->length > x->length;
    if (!compare_bytes(c, &a, &b, &first, &count))
        return false;
    if (!count && x->length == y->length)
        return true;
    if (x->has_volume && y->has_volume && x->volume.driver && y->volume.driver)
        return compare_volumes(c, s, x, t, y, count);
    size_t rows = c->list.count;
    if (x->contains && y->contains && !compare_held(c, s, x, t, y))
        return false;
    if (x->environment_size && y->environment_size)
        compare_environments(c, x, y);
    if (count && rows == c->list.count)
        bytes_row(c, count, x->start + first);
    return true;
}

/* ---- between the regions ---- */

struct stretch {
    uint64_t start, end;
};

static int by_start(const void *a, const void *b) {
    const struct stretch *x = a, *y = b;
    return (x->start > y->start) - (x->start < y->start);
}

static void add_stretches(struct mos_vec *out, struct survey *s, bool table) {
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *x = mos_vec_at(&s->spans, i);
        if (!is_extended(s, x) && !x->unread) /* that is compared byte by byte */
            *(struct stretch *)mos_vec_push(out) = (struct stretch){x->start, x->start + x->length};
    }
    for (size_t i = 0; table && i < s->table_span_count; i++) {
        const struct mos_table_span *x = &s->table_spans[i];
        *(struct stretch *)mos_vec_push(out) = (struct stretch){x->start, x->end};
    }
}

/* What no region has and no row has told of: nothing that differs goes unsaid.  The table is left
 * out where the rows have told what differs in it. */
static bool compare_rest(struct comparison *c, struct survey *s, struct survey *t) {
    struct mos_vec told = mos_vec_make(c->m->arena, sizeof(struct stretch));
    uint64_t size = mos_min(s->io.size, t->io.size), at = 0, first = 0, count = 0;
    add_stretches(&told, s, c->table_told);
    add_stretches(&told, t, c->table_told);
    *(struct stretch *)mos_vec_push(&told) = (struct stretch){size, size};
    qsort(told.items, told.count, sizeof(struct stretch), by_start);
    for (size_t i = 0; i < told.count; i++) {
        const struct stretch *x = mos_vec_at(&told, i);
        uint64_t end = mos_min(x->start, size), from, n = 0;
        if (end > at) {
            struct mos_io a = mos_io_window(c->m->arena, &s->io, at, end - at);
            struct mos_io b = mos_io_window(c->m->arena, &t->io, at, end - at);
            if (!compare_bytes(c, &a, &b, &from, &n))
                return false;
            first = n && !count ? at + from : first;
            count += n;
        }
        at = mos_max(at, x->end);
    }
    c->at = NULL;
    c->region = s->driver || t->driver ? "table and gaps" : "elsewhere";
    if (count)
        bytes_row(c, count, first);
    return true;
}

/* ---- tables ---- */

static const char *id_text(struct survey *s, const struct mos_partition *p) {
    char *text = mos_alloc(s->m->arena, 40);
    s->driver->partition_id(s->table.id, p->number, p->id, text);
    return text;
}

static void compare_partitions(struct comparison *c, struct survey *s,
                               const struct mos_partition *p, struct survey *t,
                               const struct mos_partition *q) {
    struct mos_arena *arena = c->m->arena;
    if (p->first_lba * s->table.sector != q->first_lba * t->table.sector)
        row(c, "start", NULL, mos_size_text(arena, p->first_lba * s->table.sector),
            mos_size_text(arena, q->first_lba * t->table.sector));
    if (strcmp(p->name, q->name) != 0)
        row(c, "name", NULL, p->name, q->name);
    if (s->driver == t->driver && memcmp(p->type, q->type, 16) != 0) {
        const char *a = s->driver->type_name(p->type), *b = t->driver->type_name(q->type);
        row(c, "type", NULL, a ? a : "unknown", b ? b : "unknown");
    }
    if (strcmp(id_text(s, p), id_text(t, q)) != 0)
        row(c, "id", NULL, id_text(s, p), id_text(t, q));
    if (p->bootable != q->bootable)
        row(c, "boot mark", NULL, p->bootable ? "set" : "not set", q->bootable ? "set" : "not set");
}

static const struct survey_span *partner(struct survey *t, const struct survey_span *x) {
    for (size_t i = 0; i < t->spans.count; i++) {
        const struct survey_span *y = mos_vec_at(&t->spans, i);
        bool same = x->partition && y->partition
                        ? x->partition->number == y->partition->number
                        : !x->partition && !y->partition && x->start == y->start;
        if (same)
            return y;
    }
    return NULL;
}

static const char *span_text(struct survey *s, const struct survey_span *x) {
    return mos_printf(s->m->arena, "%s, %s at %s",
                      x->has_volume ? x->volume.kind
                      : x->what     ? x->what
                                    : "nothing known",
                      mos_size_about(s->m->arena, x->length), mos_size_text(s->m->arena, x->start));
}

/* Of a larger device: behind the image, or where the image has the copy of its table. */
static bool is_behind(const struct survey *s, const struct survey_span *y) {
    uint64_t end = s->io.size;
    for (size_t i = 0; i < s->table_span_count; i++)
        if (s->table_spans[i].end == s->io.size)
            end = mos_min(end, s->table_spans[i].start);
    for (size_t i = 0; i < s->table_span_count; i++) /* entries lie before their header */
        if (s->table_spans[i].end == end)
            end = s->table_spans[i].start;
    return y->start >= mos_round_down(end, SURVEY_STEP);
}

static bool compare_all(struct comparison *c, struct survey *s, struct survey *t) {
    const char *none = "no table";
    if (s->driver != t->driver)
        row(c, "table", NULL, s->driver ? s->driver->title : none,
            t->driver ? t->driver->title : none);
    /* an image on a larger device: its copy of a GPT lies at the end there, and what is behind the
     * image is nobody's */
    bool on_device = t->image.is_device && !s->image.is_device && s->io.size < t->io.size;
    if (s->io.size != t->io.size && !on_device)
        row(c, "image size", NULL, mos_size_text(c->m->arena, s->io.size),
            mos_size_text(c->m->arena, t->io.size));
    c->table_told = c->list.count != 0 || on_device;
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *x = mos_vec_at(&s->spans, i), *y = partner(t, x);
        if (x->unread)
            continue;
        enter(c, s, x, true);
        size_t rows = c->list.count;
        if (!y)
            row(c, "removed", NULL, span_text(s, x), NULL);
        else if (x->partition)
            compare_partitions(c, s, x->partition, t, y->partition);
        c->table_told |= rows != c->list.count || (y && x->length != y->length);
        if (!y)
            continue;
        if (!compare_spans(c, s, x, t, y))
            return false;
    }
    for (size_t i = 0; i < t->spans.count; i++) {
        const struct survey_span *y = mos_vec_at(&t->spans, i);
        enter(c, t, y, false);
        if (partner(s, y) || y->unread || (on_device && is_behind(s, y)))
            continue;
        row(c, "added", NULL, NULL, span_text(t, y));
        c->table_told = true;
    }
    return compare_rest(c, s, t);
}

/* ---- the summary ---- */

/* How many of each kind lie in one folder of a region. */
struct folder {
    const char *region, *path;
    uint64_t counts[4]; /* added, removed, changed, anything else */
};

/* "/usr/share" of "/usr/share/man/x": two names deep; of what is no file its own kind. */
static const char *folder_of(struct mos_arena *arena, const char *thing) {
    const char *end = *thing == '/' ? strchr(thing + 1, '/') : NULL, *next;
    if (!end)
        return *thing == '/' ? "/" : "(the region itself)";
    next = strchr(end + 1, '/');
    return mos_strndup(arena, thing, (size_t)((next ? next : end) - thing));
}

static void count_row(struct mos_map *folders, struct mos_vec *order, struct mos_arena *arena,
                      const struct difference *d) {
    static const char *const kinds[] = {"added", "removed", "changed"};
    const char *path = folder_of(arena, d->thing ? d->thing : ""),
               *key = mos_printf(arena, "%s %s", d->region, path);
    struct folder *f = mos_map_get(folders, key);
    size_t kind = 0;
    if (!f) {
        f = mos_alloc(arena, sizeof *f);
        *f = (struct folder){.region = d->region, .path = path};
        mos_map_set(folders, key, f);
        mos_vec_push_pointer(order, f);
    }
    while (kind < 3 && strcmp(d->change, kinds[kind]) != 0)
        kind++;
    f->counts[kind]++;
}

/* By folder, before the list of all; and which kernels the modules are of. */
static void summarize(struct comparison *c) {
    static const struct mosaicum_column heads[] = {
        {"region", "region", false},  {"folder", "folder", false},  {"added", "added", true},
        {"removed", "removed", true}, {"changed", "changed", true}, {"other", "other", true}};
    struct mos_arena *arena = c->m->arena;
    struct mos_map folders = mos_map_make(arena);
    struct mos_vec order = mos_vec_make(arena, sizeof(void *));
    for (size_t i = 0; i < c->list.count; i++)
        count_row(&folders, &order, arena, mos_vec_at(&c->list, i));
    const char *a = c->releases[0], *b = c->releases[1];
    const char *kernel = !a && !b ? ""
                         : a && b && strcmp(a, b) == 0
                             ? mos_printf(arena, "; modules of kernel %s in both", a)
                             : mos_printf(arena, "; modules of kernel %s there, %s here",
                                          a ? a : "none", b ? b : "none");
    struct report_table t =
        report_start(&c->m->report, "summary", mos_printf(arena, "In short%s", kernel), heads, 6);
    for (size_t i = 0; i < order.count; i++) {
        const struct folder *f = mos_vec_pointer(&order, i);
        cell_text(&t, f->region);
        cell_text(&t, f->path);
        for (size_t k = 0; k < 4; k++)
            if (f->counts[k])
                cell_number(&t, f->counts[k]);
            else
                cell_text(&t, NULL);
    }
    report_end(&c->m->report, &t);
}

/* Both, and by the same regions: where only one of them has a ledger beside it, that is for both.
 */
static bool open_both(mosaicum *m, const char *a, const char *b, struct survey *s,
                      struct survey *t) {
    if (!survey_open(m, a, s))
        return false;
    if (!survey_open_like(m, b, s, t)) {
        survey_close(s);
        return false;
    }
    if (!t->by_ledger || s->by_ledger || s->io.size != t->io.size)
        return true;
    survey_close(s);
    if (survey_open_like(m, a, t, s))
        return true;
    survey_close(t);
    return false;
}

/* Of two images, or of a device and something else: one list. */
static void report_list(struct comparison *c, const char *a, const char *b) {
    mosaicum *m = c->m;
    struct mosaicum_column *named = mos_alloc_array(m->arena, 5, sizeof *named);
    memcpy(named, columns, sizeof columns);
    named[3].title = a;
    named[4].title = b;
    size_t count = c->list.count;
    const char *title = count
                            ? mos_printf(m->arena, "%zu difference%s", count, count == 1 ? "" : "s")
                            : "Nothing differs.";
    if (count > MOST_ROWS)
        summarize(c);
    struct report_table t = report_start(&m->report, "differences", title, named, 5);
    for (size_t i = 0; i < count; i++) {
        const struct difference *d = mos_vec_at(&c->list, i);
        cell_text(&t, d->region);
        cell_text(&t, d->change);
        cell_text(&t, d->thing);
        cell_text(&t, d->a);
        cell_text(&t, d->b);
    }
    report_end(&m->report, &t);
    m->damaged |= count != 0;
}

void compare_images(mosaicum *m, const char *a, const char *b) {
    struct survey s, t;
    if (!open_both(m, a, b, &s, &t))
        return;
    struct comparison c = {.m = m, .list = mos_vec_make(m->arena, sizeof(struct difference))};
    if (compare_all(&c, &s, &t)) {
        if (t.image.is_device && !s.image.is_device)
            compare_report_device(m, &c.list, &s, &t);
        else
            report_list(&c, a, b);
    }
    for (size_t i = 0; i < t.problems.count; i++)
        mos_vec_push_pointer(&s.problems, mos_vec_pointer(&t.problems, i));
    survey_note_trouble(&t, &s.problems);
    survey_report_problems(&s);
    survey_close(&t);
    survey_close(&s);
}
