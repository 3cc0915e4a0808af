/* Units of boards on one's own table: which one is meant, its port, its power. */
#include "api/bench.h"

#include "base/text.h"
#include "model/schema.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

enum {
    USUAL_SPEED = 115200,
    MOST_FILE = 1 << 20,
    MOST_OUTPUT = 64 << 10,
    SWITCH_SECONDS = 60,
    USUAL_PAUSE = 2
};

static bool fails(mosaicum *m, const char *what, const char *more) {
    return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s%s", what, more);
}

static const struct mos_bench *load(mosaicum *m, const char *path) {
    struct mos_file_info info;
    struct mos_bench *bench = mos_alloc(m->arena, sizeof *bench);
    run_allow(m, path, MOS_REACH_READ);
    if (m->ctx.host->info(m->ctx.host, path, true, &info))
        return bench;
    const struct mos_source *s = mos_source_load(&m->ctx, path, path, MOST_FILE);
    struct mos_node *node = s ? mos_yaml_parse(&m->ctx, s) : NULL;
    if (node)
        mos_schema_read(&m->ctx, &mos_bench_keys, node, MOS_READ_WHOLE, bench);
    bool good = node && !mos_findings_count(&m->ctx.findings, MOS_SEVERITY_ERROR);
    return good ? bench : NULL;
}

static bool is_of(const struct mos_bench_unit *u, const char *selector) {
    return !selector ||
           (mos_has(u->board) && mos_glob(u->board->text, selector, strlen(selector), '+'));
}

bool bench_unit(mosaicum *m, const char *path, const char *name, const char *selector,
                const struct mos_bench_unit **out) {
    const struct mos_bench *bench = path ? load(m, path) : NULL;
    struct mos_buf known = {.arena = m->arena};
    size_t count = 0;
    *out = NULL;
    if (path && !bench)
        return false;
    for (size_t i = 0; bench && i < bench->units.count; i++) {
        const struct mos_bench_unit *u = bench->units.items[i];
        if (name ? strcmp(u->r.name, name) == 0 : is_of(u, selector)) {
            *out = u;
            count++;
        }
        mos_buf_printf(&known, "%s%s", i ? ", " : "", u->r.name);
    }
    if (name && !count)
        return fails(
            m,
            mos_printf(m->arena, "There is no unit %s in %s", name, path ? path : "the bench file"),
            known.length ? mos_printf(m->arena, "; it has %s", mos_buf_string(&known)) : "");
    if (count > 1)
        return fails(m, "Several units on this table are meant; name one by --unit: ",
                     mos_buf_string(&known));
    return true;
}

/* ---- its port ---- */

struct search {
    mosaicum *m;
    const char *usb, *found;
};

/* "1-4.2" is any interface of that device, "1-4.2:1.0" the one. */
static bool look(void *self, const struct mos_serial_port *port) {
    struct search *s = self;
    size_t n = strlen(s->usb);
    bool same =
        port->usb && strncmp(port->usb, s->usb, n) == 0 && (!port->usb[n] || port->usb[n] == ':');
    if (same && !s->found)
        s->found = mos_strdup(s->m->arena, port->path);
    return true;
}

const char *bench_port(mosaicum *m, const struct mos_bench_unit *unit) {
    const struct mos_wires *w = m->ctx.host->wires;
    const char *serial = mos_text_or(unit->serial, NULL);
    if (!serial) {
        fails(m, "The bench file states no serial line of unit ", unit->r.name);
        return NULL;
    }
    if (strncmp(serial, "usb:", 4) != 0)
        return serial;
    struct search s = {.m = m, .usb = serial + 4};
    int e = w && w->list_lines ? w->list_lines(w, look, &s) : ENOSYS;
    if (e || !s.found)
        mos_fail(&m->error, MOS_ERROR_SYSTEM, e,
                 "No serial port is at %s, where unit %s has its adapter", serial, unit->r.name);
    return s.found;
}

struct users {
    struct mos_buf names;
};

static bool add_user(void *self, const char *program, unsigned process) {
    struct users *u = self;
    mos_buf_printf(&u->names, "%s%s (process %u)", u->names.length ? ", " : "", program, process);
    return true;
}

const char *bench_port_users(mosaicum *m, const char *port) {
    const struct mos_wires *w = m->ctx.host->wires;
    struct users u = {{.arena = m->arena}};
    if (w->line_users)
        w->line_users(w, port, add_user, &u);
    return mos_buf_string(&u.names);
}

const char *bench_why_not(mosaicum *m, const char *port, unsigned speed, int e) {
    const struct mos_wires *w = m->ctx.host->wires;
    const char *who = e == EBUSY ? bench_port_users(m, port) : "";
    char group[64], user[64];
    switch (e) {
    case EBUSY:
        return mos_printf(m->arena, "%s: another program has it%s%s", port, *who ? ": " : "", who);
    case EACCES:
    case EPERM:
        if (!w || !w->line_group || w->line_group(w, port, group, user))
            return mos_printf(m->arena, "%s may not be opened by you: ls -l tells whose it is",
                              port);
        return mos_printf(m->arena,
                          "%s may be opened by group %s, and %s is not in it: sudo usermod -a -G "
                          "%s %s, then log in anew",
                          port, group, user, group, user);
    case EINVAL:
        return mos_printf(m->arena, "%s cannot have %u bits a second", port, speed);
    case ENOTTY:
        return mos_printf(m->arena, "%s is no serial port", port);
    default:
        return mos_printf(m->arena, "Opening %s: %s", port, mos_errno_text(e));
    }
}

bool bench_cannot_open(mosaicum *m, const char *port, unsigned speed, int e) {
    bool wrong = e == EINVAL || e == ENOTTY;
    return mos_fail(&m->error, wrong ? MOS_ERROR_USAGE : MOS_ERROR_SYSTEM, 0, "%s",
                    bench_why_not(m, port, speed, e));
}

bool bench_open(mosaicum *m, const struct mos_bench_unit *unit, const char *port, const char *speed,
                const char **shown, int *line) {
    const struct mos_wires *w = m->ctx.host->wires;
    uint64_t bits = USUAL_SPEED;
    if (!w)
        return mos_fail(&m->error, MOS_ERROR_SYSTEM, 0, "This computer has no serial lines");
    if (speed && mos_integer_parse(speed, &bits) != MOS_NUMBER_OK)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s is no speed in bits a second", speed);
    *shown = port ? port : unit ? bench_port(m, unit) : NULL;
    if (!*shown)
        return !m->error.kind && mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                                          "Name the port, as in /dev/ttyUSB0 or tcp:HOST:PORT");
    int e = w->open_line(w, *shown, (unsigned)bits, line);
    return !e || bench_cannot_open(m, *shown, (unsigned)bits, e);
}

/* ---- its power ---- */

static bool run(mosaicum *m, const struct mos_bench_unit *unit, const struct mos_list *command) {
    const struct mos_host *h = m->ctx.host;
    const char **words = mos_alloc_array(m->arena, command->count + 1, sizeof *words);
    for (size_t i = 0; i < command->count; i++)
        words[i] = mos_text_or(command->items[i], "");
    const struct mos_program program = {
        .arguments = words, .output_limit = MOST_OUTPUT, .seconds = SWITCH_SECONDS};
    struct mos_program_result r = {0};
    if (m->ctx.no_run)
        return mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                        "Power is switched by %s, which --no-run forbids", words[0]);
    int e = h->run(h, &program, &r);
    bool ok = !e && !r.timeout && !r.overflow && !r.status;
    if (!ok)
        mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Switching the power of unit %s by %s%s%.120s",
                 unit->r.name, words[0], r.errors && *r.errors ? ": " : "",
                 r.errors ? r.errors : "");
    free(r.output);
    free(r.errors);
    return ok;
}

static void pause_for(mosaicum *m, int64_t seconds) {
    const struct mos_host *h = m->ctx.host;
    int64_t until = h->now_ns(h) + seconds * SECOND;
    unsigned ready;
    while (h->now_ns(h) < until &&
           !h->wires->wait(h->wires, NULL, 0, until - h->now_ns(h), &ready)) {
    }
}

bool bench_cycle(mosaicum *m, const struct mos_bench_unit *unit) {
    const struct mos_bench_power *p = unit ? unit->power : NULL;
    if (!p || (!p->cycle.count && (!p->off.count || !p->on.count)))
        return fails(m, "The bench file states no way to switch the power of this unit",
                     unit ? ": power" : "");
    if (p->cycle.count)
        return run(m, unit, &p->cycle);
    if (!run(m, unit, &p->off))
        return false;
    pause_for(m, mos_has(p->pause) ? (int64_t)p->pause->number : USUAL_PAUSE);
    return run(m, unit, &p->on);
}
