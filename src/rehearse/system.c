/* What the root file system says about itself: mount table, log-in on the console. */
#include "rehearse/root.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_TEXT = 256 << 10, MOST_MOUNTS = 64 };

static const char *text_of(struct sim *s, struct sim_volume *v, const char *path) {
    const struct sim_file *f = sim_file(s, v, path);
    size_t length;
    return f ? (const char *)sim_file_bytes(s, v, f, MOST_TEXT, &length) : NULL;
}

/* The n-th word of a line. */
static const char *word(struct sim *s, const char *line, unsigned n) {
    for (;; n--) {
        line += strspn(line, " \t");
        size_t length = strcspn(line, " \t\n");
        if (!n || !length)
            return mos_strndup(s->arena, line, length);
        line += length;
    }
}

static void check_mount(struct sim *s, struct sim_volume *root, const char *line) {
    static const char *const virtual[] = {"proc",   "sysfs",   "tmpfs",   "devtmpfs",
                                          "devpts", "swap",    "debugfs", "configfs",
                                          "none",   "overlay", "nfs"};
    const char *what = word(s, line, 0), *where = word(s, line, 1), *kind = word(s, line, 2);
    const char *options = word(s, line, 3), *why;
    if (*what == '#' || !*where)
        return;
    for (size_t i = 0; i < sizeof virtual / sizeof *virtual; i++)
        if (strcmp(kind, virtual[i]) == 0)
            return;
    bool soft = strstr(options, "nofail") || strstr(options, "noauto");
    struct sim_volume *v = sim_named_volume(s, what, true, &why);
    if (!v && why && !soft)
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "mount table: %s for %s: %s", what, where, why);
    else if (v && v->readable && strcmp(where, "/") != 0 && !sim_file(s, root, where))
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "mount table: there is no folder %s", where);
    else if (v)
        sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL, "mounts %s on %s", sim_volume_name(s, v), where);
}

static void check_mounts(struct sim *s, struct sim_volume *root) {
    const char *table = text_of(s, root, "/etc/fstab");
    for (unsigned n = 0; table && *table && n < MOST_MOUNTS; n++) {
        size_t length = strcspn(table, "\n");
        check_mount(s, root, mos_strndup(s->arena, table, length));
        table += length + (table[length] == '\n');
    }
}

/* The last console= is the one that log-ins and the first program use. */
static void check_log_in(struct sim *s, struct sim_volume *root) {
    const char *console = sim_argument(s, "console");
    const char *table = text_of(s, root, "/etc/inittab");
    if (!console) {
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "no console= among the arguments");
        return;
    }
    const char *port = mos_strndup(s->arena, console, strcspn(console, ","));
    bool systemd =
        sim_file(s, root, "/lib/systemd/systemd") || sim_file(s, root, "/usr/lib/systemd/systemd");
    if (systemd || (table && strstr(table, port)))
        s->out->log_in = true;
    if (s->out->log_in)
        sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL, "log-in on %s", console);
    else if (table)
        sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL, "the console is %s; no log-in is started there",
                  console);
}

void sim_system(struct sim *s, struct sim_volume *root) {
    s->part = MOS_PART_SYSTEM;
    check_mounts(s, root);
    check_log_in(s, root);
}
