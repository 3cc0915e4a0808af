/* Who uses which device: mount tables of every namespace, swap, and the open files of programs. */
#include "base/bytes.h"
#include "base/text.h"
#include "media/storage.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { LONGEST = 1024, MOST_TABLE = 4 << 20, MOST_FIELDS = 64, MOST_DEPTH = 16 };

void mos_mount_unescape(char *field) {
    char *to = field;
    for (const char *p = field; *p;) {
        bool octal = p[0] == '\\' && p[1] >= '0' && p[1] <= '3' && p[2] >= '0' && p[2] <= '7' &&
                     p[3] >= '0' && p[3] <= '7';
        *to++ = octal ? (char)((p[1] - '0') << 6 | (p[2] - '0') << 3 | (p[3] - '0')) : *p;
        p += octal ? 4 : 1;
    }
    *to = 0;
}

/* A text of any length; NULL: it cannot be read. */
static char *whole_text(struct mos_ctx *ctx, const struct mos_computer *c, const char *name) {
    for (size_t room = 16 << 10; room <= MOST_TABLE; room *= 4) {
        char *text = mos_alloc(ctx->arena, room + 1);
        size_t got;
        if (c->text(c, name, text, room, &got))
            return NULL;
        text[got] = 0;
        if (got < room)
            return text;
        mos_drop(ctx->arena, text, room + 1);
    }
    return NULL; /* cut off: what is behind is not known */
}

/* Splits a line at blanks; returns how many fields there are, at most MOST_FIELDS. */
static size_t split(char *line, char *fields[MOST_FIELDS]) {
    size_t n = 0;
    while (n < MOST_FIELDS && *(line += strspn(line, " \t"))) {
        fields[n++] = line;
        line += strcspn(line, " \t");
        if (!*line)
            break;
        *line++ = 0;
    }
    return n;
}

/* ---- what stands on what ---- */

static void mark_system(struct mos_ctx *ctx, struct mos_storage *s, uint64_t number,
                        const char *part, unsigned depth);

/* Down from a device that the system stands on, to everything below. */
static void mark_block(struct mos_ctx *ctx, struct mos_storage *s, struct mos_block *b,
                       const char *part, unsigned depth) {
    if (depth > MOST_DEPTH)
        return;
    if (!b->system)
        b->system = part;
    if (b->whole)
        mark_block(ctx, s, b->whole, part, depth + 1);
    for (size_t i = 0; i < b->below.count; i++)
        mark_block(ctx, s, mos_vec_pointer(&b->below, i), part, depth + 1);
    bool is_device;
    uint64_t number;
    if (b->backing && s->computer->device_of(s->computer, b->backing, &is_device, &number) == 0)
        mark_system(ctx, s, number, part, depth + 1);
}

static void mark_system(struct mos_ctx *ctx, struct mos_storage *s, uint64_t number,
                        const char *part, unsigned depth) {
    struct mos_block *b = mos_storage_find(s, number);
    if (b)
        mark_block(ctx, s, b, part, depth);
}

static bool is_of_system(const char *at) {
    static const char *const parts[] = {"/", "/usr", "/boot", "/var", "/etc", "/home"};
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
        if (strcmp(at, parts[i]) == 0)
            return true;
    return strncmp(at, "/boot/", 6) == 0;
}

/* Folders that an overlay is made of, "lowerdir=/a:/b,upperdir=/c": their devices count, too. */
static void mark_folders(struct mos_ctx *ctx, struct mos_storage *s, const char *options,
                         const char *part) {
    for (const char *p = options, *end; *p; p = end + (*end == ',')) {
        end = p + strcspn(p, ",");
        if (strncmp(p, "lowerdir", 8) != 0 && strncmp(p, "upperdir", 8) != 0)
            continue;
        for (const char *folder = p + strcspn(p, "=") + 1, *stop; folder < end; folder = stop + 1) {
            bool is_device;
            uint64_t number;
            stop = folder + strcspn(folder, ":,");
            const char *one = mos_strndup(ctx->arena, folder, (size_t)(stop - folder));
            if (s->computer->device_of(s->computer, one, &is_device, &number) == 0)
                mark_system(ctx, s, number, part, 0);
        }
    }
}

/* ---- mount tables ---- */

static void note_mount(struct mos_ctx *ctx, struct mos_block *b, const char *at,
                       const char *process) {
    for (size_t i = 0; i < b->mounts.count; i++) {
        const struct mos_mounted *m = mos_vec_at(&b->mounts, i);
        if (strcmp(m->at, at) == 0)
            return;
    }
    struct mos_mounted *m = mos_vec_push(&b->mounts);
    *m = (struct mos_mounted){mos_strdup(ctx->arena, at), process};
}

/* One line of a mountinfo (Documentation/filesystems/proc.rst, 3.5).  process NULL: ours. */
static void read_mount(struct mos_ctx *ctx, struct mos_storage *s, char *line,
                       const char *process) {
    char *fields[MOST_FIELDS], *end;
    size_t n = split(line, fields), dash = 6;
    while (dash < n && strcmp(fields[dash], "-") != 0)
        dash++;
    if (n < 7 || dash + 2 >= n)
        return;
    unsigned long major = strtoul(fields[2], &end, 10);
    unsigned long minor = *end == ':' ? strtoul(end + 1, NULL, 10) : 0;
    uint64_t number = mos_block_number((uint32_t)major, (uint32_t)minor);
    mos_mount_unescape(fields[4]);
    mos_mount_unescape(fields[dash + 2]);
    struct mos_block *b = mos_storage_find(s, number);
    bool is_device;
    /* a file system of several devices has a number of its own, and names one of them */
    if (!b && fields[dash + 2][0] == '/' &&
        s->computer->device_of(s->computer, fields[dash + 2], &is_device, &number) == 0 &&
        is_device)
        b = mos_storage_find(s, number);
    if (b)
        note_mount(ctx, b, fields[4], process);
    if (process || !is_of_system(fields[4]))
        return;
    const char *part = mos_strdup(ctx->arena, fields[4]);
    if (b)
        mark_block(ctx, s, b, part, 0);
    else if (dash + 3 < n)
        mark_folders(ctx, s, fields[dash + 3], part);
}

static void read_mounts(struct mos_ctx *ctx, struct mos_storage *s, char *text,
                        const char *process) {
    for (char *line = text, *next; line && *line; line = next) {
        next = strchr(line, '\n');
        if (next)
            *next++ = 0;
        read_mount(ctx, s, line, process);
    }
}

static void read_swaps(struct mos_ctx *ctx, struct mos_storage *s) {
    char *text = whole_text(ctx, s->computer, "proc/swaps");
    s->untold |= text == NULL;
    for (char *line = text ? strchr(text, '\n') : NULL, *next; line; line = next) {
        char *fields[MOST_FIELDS];
        bool is_device;
        uint64_t number;
        next = strchr(++line, '\n');
        if (next)
            *next = 0;
        if (!split(line, fields))
            continue;
        mos_mount_unescape(fields[0]);
        if (s->computer->device_of(s->computer, fields[0], &is_device, &number))
            continue;
        struct mos_block *b = mos_storage_find(s, number);
        if (b)
            b->swap = true;
    }
}

/* ---- programs ---- */

struct scan {
    struct mos_ctx *ctx;
    struct mos_storage *s;
    const char *program; /* its number in proc/ */
    const char *self;
    struct mos_vec spaces; /* of const char *: mount namespaces whose table was read */
};

static const char *title_of(struct scan *x) {
    char name[64];
    size_t got = 0;
    const struct mos_computer *c = x->s->computer;
    if (c->text(c, mos_printf(x->ctx->arena, "proc/%s/comm", x->program), name, sizeof name - 1,
                &got))
        got = 0;
    name[got] = 0;
    name[strcspn(name, "\n")] = 0;
    return mos_printf(x->ctx->arena, "%s (%s)", *name ? name : "program", x->program);
}

static bool look_at_descriptor(void *self, const char *name) {
    struct scan *x = self;
    bool is_device;
    uint64_t number;
    char path[96];
    snprintf(path, sizeof path, "/proc/%.20s/fd/%.20s", x->program, name);
    if (x->s->computer->device_of(x->s->computer, path, &is_device, &number) || !is_device)
        return true;
    struct mos_block *b = mos_storage_find(x->s, number);
    const char *title = b ? title_of(x) : NULL;
    for (size_t i = 0; b && i < b->users.count; i++)
        if (strcmp(mos_vec_pointer(&b->users, i), title) == 0)
            return true;
    if (b)
        mos_vec_push_pointer(&b->users, title);
    return true;
}

/* The mounts of a program's namespace, once a namespace. */
static void look_at_namespace(struct scan *x) {
    char space[LONGEST];
    struct mos_arena *arena = x->ctx->arena;
    const struct mos_computer *c = x->s->computer;
    if (c->link(c, mos_printf(arena, "proc/%s/ns/mnt", x->program), space, sizeof space))
        return; /* of another user: opening the device for nobody else still asks the kernel */
    for (size_t i = 0; i < x->spaces.count; i++)
        if (strcmp(mos_vec_pointer(&x->spaces, i), space) == 0)
            return;
    char *table = whole_text(x->ctx, c, mos_printf(arena, "proc/%s/mountinfo", x->program));
    if (!table)
        return;
    mos_vec_push_pointer(&x->spaces, mos_strdup(arena, space));
    read_mounts(x->ctx, x->s, table, title_of(x));
}

static bool look_at_program(void *self, const char *name) {
    struct scan *x = self;
    if (strspn(name, "0123456789") != strlen(name) || strcmp(name, x->self) == 0)
        return true;
    x->program = name;
    look_at_namespace(x);
    int e = x->s->computer->names(x->s->computer, mos_printf(x->ctx->arena, "proc/%s/fd", name),
                                  look_at_descriptor, x);
    x->s->unseen += e == EACCES || e == EPERM; /* others: it has ended in between */
    return true;
}

bool mos_storage_read(struct mos_ctx *ctx, struct mos_storage *s) {
    if (!mos_storage_list(ctx, s))
        return false;
    char self[LONGEST] = "", space[LONGEST] = "";
    const struct mos_computer *c = s->computer;
    struct scan x = {.ctx = ctx, .s = s, .spaces = mos_vec_make(ctx->arena, sizeof(char *))};
    if (c->link(c, "proc/self", self, sizeof self))
        *self = 0;
    x.self = self;
    char *own = whole_text(ctx, c, "proc/self/mountinfo");
    s->untold |= own == NULL;
    if (own) {
        read_mounts(ctx, s, own, NULL);
        if (c->link(c, "proc/self/ns/mnt", space, sizeof space) == 0)
            mos_vec_push_pointer(&x.spaces, mos_strdup(ctx->arena, space));
    }
    read_swaps(ctx, s);
    s->untold |= c->names(c, "proc", look_at_program, &x) != 0;
    return true;
}
