/* The serial ports of this computer, and which of them is new. */
#include "api/listen.h"

#include "base/text.h"

#include <errno.h>
#include <string.h>

#define MS INT64_C(1000000)

enum { LOOK_MS = 500 };

struct ports {
    struct listen_job *j;
    struct report_table *t; /* NULL: they are only looked at */
    struct mos_map *known;  /* by path */
    const char *fresh;      /* the first that is not known */
    size_t count;
};

static bool add(void *self, const struct mos_serial_port *p) {
    struct ports *x = self;
    struct mos_arena *arena = x->j->m->arena;
    const char *path = mos_strdup(arena, p->path);
    x->count++;
    if (!mos_map_get(x->known, path)) {
        x->fresh = x->fresh ? x->fresh : path;
        mos_map_set_const(x->known, path, "");
    }
    if (!x->t)
        return true;
    const char *ids = p->vendor ? mos_printf(arena, "%04x:%04x", p->vendor, p->product) : NULL;
    cell_text(x->t, path);
    cell_text(x->t, p->usb ? mos_printf(arena, "usb:%s", p->usb) : NULL);
    cell_text(x->t, ids);
    cell_text(x->t, p->maker ? mos_strdup(arena, p->maker) : NULL);
    cell_text(x->t, p->name ? mos_strdup(arena, p->name) : NULL);
    cell_text(x->t, p->serial ? mos_strdup(arena, p->serial) : NULL);
    return true;
}

static int list(struct listen_job *j, struct ports *x) {
    const struct mos_wires *w = j->m->ctx.host->wires;
    return w && w->list_lines ? w->list_lines(w, add, x) : ENOSYS;
}

static bool tell(struct listen_job *j, struct mos_map *known, size_t *count) {
    static const struct mosaicum_column columns[] = {
        {"port", "port", false},   {"usb", "plugged in at", false}, {"ids", "ids", false},
        {"maker", "maker", false}, {"name", "name", false},         {"serial", "serial", false}};
    struct report_table t = report_start(&j->m->report, "ports", "Serial ports", columns, 6);
    struct ports x = {.j = j, .t = &t, .known = known};
    int e = list(j, &x);
    if (e)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e, "Listing the serial ports");
    *count = x.count;
    if (x.count)
        report_end(&j->m->report, &t);
    return true;
}

/* Without a port: what there is, and then the one that appears. */
bool listen_wait_for_port(struct listen_job *j) {
    const struct mos_wires *w = j->m->ctx.host->wires;
    struct mos_map known = mos_map_make(j->m->arena);
    size_t count = 0;
    if (!tell(j, &known, &count))
        return false;
    if (!j->request->keys || !j->request->note)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                        "Name a port: %zu %s there, and none is of this board by the bench file",
                        count, count == 1 ? "is" : "are");
    if (j->request->show_ports)
        j->request->show_ports(j->request->self, j->m);
    j->m->report.tables.count = 0;
    j->request->note(j->request->self,
                     count ? "name one of these, or plug the adapter in now: the new one is taken"
                           : "there is no serial port: plug the adapter in now",
                     false);
    for (;;) {
        unsigned ready;
        struct ports x = {.j = j, .known = &known};
        int e = w->wait(w, NULL, 0, LOOK_MS * MS, &ready);
        e = e ? e : list(j, &x);
        if (e)
            return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e, "Waiting for a serial port");
        if (x.fresh) {
            j->port = x.fresh;
            j->request->note(j->request->self, mos_printf(j->m->arena, "%s is new", x.fresh),
                             false);
            return true;
        }
    }
}
