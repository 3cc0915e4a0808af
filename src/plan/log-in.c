/* Who may log in at the serial port that is the console.  Where the root starts a log-in at another
 * one, as it was the console before, that goes: whatever is connected there now would be answered.
 */
#include "plan/system_internal.h"

#include "base/text.h"

#include <ctype.h>
#include <string.h>

#define WANTS "etc/systemd/system/getty.target.wants"

/* A port of the board: not a virtual terminal, nor what the board is to a host on its USB. */
static bool is_serial(const char *word) {
    return strncmp(word, "tty", 3) == 0 && isalpha((unsigned char)word[3]) &&
           strncmp(word, "ttyGS", 5) != 0;
}

/* The serial port at which a line of an inittab (id:levels:action:process) starts a log-in; NULL:
 * none. */
static const char *port_of(struct mos_arena *arena, const char *line, size_t length) {
    static const char *const actions[] = {"respawn", "askfirst", "ondemand"};
    char *text = mos_strndup(arena, line, length), *fields[4] = {text};
    size_t n = 1;
    for (char *p = text; *p && n < 4; p++)
        if (*p == ':') {
            *p = 0;
            fields[n++] = p + 1;
        }
    bool starts = false;
    for (size_t i = 0; n == 4 && i < sizeof actions / sizeof *actions; i++)
        starts = starts || strcmp(fields[2], actions[i]) == 0;
    if (!starts || *text == '#')
        return NULL;
    for (char *p = fields[3]; *p; p += strcspn(p, " \t")) {
        p += strspn(p, " \t");
        size_t word = strcspn(p, " \t");
        const char *name = strncmp(p, "/dev/", 5) == 0 ? p + 5 : p;
        if (is_serial(name))
            return mos_strndup(arena, name, word - (size_t)(name - p));
    }
    return is_serial(text) ? text : NULL;
}

/* Every such line but that which `keeps` begins becomes a comment. */
static const char *without_others(struct system_writer *w, const char *text, const char *keeps) {
    struct mos_buf b = {.arena = w->arena};
    const char *kept = system_line_of(text, keeps);
    for (const char *p = text; *p; p = mos_next_line(p)) {
        size_t n = strcspn(p, "\n");
        if (p != kept && port_of(w->arena, p, n))
            mos_buf_text(&b, "# the log-in follows the console: ");
        mos_buf_add(&b, p, n + (p[n] == '\n'));
    }
    return b.length ? mos_buf_string(&b) : text;
}

/* Units of other ports are put out of use. */
static bool mask_others(struct system_writer *w, const char *port) {
    static const char begins[] = "serial-getty@", ends[] = ".service";
    const struct mos_inventory *inv = w->region->volume->inventory;
    struct mos_vec names = mos_vec_make(w->arena, sizeof(char *));
    uint32_t folder;
    for (uint32_t i = mos_inv_find(inv, WANTS, &folder) ? mos_inv_node(inv, folder)->first_child
                                                        : 0;
         i; i = mos_inv_node(inv, i)->next)
        mos_vec_push_pointer(&names, mos_inv_node(inv, i)->name);
    for (size_t i = 0; i < names.count; i++) {
        const char *name = mos_vec_pointer(&names, i);
        size_t n = strlen(name), front = sizeof begins - 1, back = sizeof ends - 1;
        if (n <= front + back || strncmp(name, begins, front) != 0 ||
            strcmp(name + n - back, ends) != 0)
            continue;
        const char *its = mos_strndup(w->arena, name + front, n - front - back);
        if (strcmp(its, port) != 0 && is_serial(its) &&
            !system_put_link(w, mos_printf(w->arena, "etc/systemd/system/%s", name), "/dev/null"))
            return false;
    }
    return true;
}

bool system_put_log_in(struct system_writer *w, const struct mos_log_in *l) {
    const struct mos_hardware *h = w->plan->board->hardware;
    const char *port = mos_board_port(w->plan->board);
    if (!mos_has(l->by) || !port)
        return true;
    const char *terminal = mos_text_or(l->terminal, "vt100");
    if (mos_starter_of(l->by) == MOS_STARTER_SYSTEMD)
        return mask_others(w, port) &&
               system_put_link(w, mos_printf(w->arena, WANTS "/serial-getty@%s.service", port),
                               "/lib/systemd/system/serial-getty@.service");
    bool full = system_has_runlevels(w);
    size_t n = strlen(port);
    const char *id = full && n > 4 ? port + n - 4 : port;
    const char *line =
        mos_printf(w->arena, "%s:%s:respawn:/sbin/getty -L %s %s %s", id, full ? "2345" : "", port,
                   mos_text_or(h->console->baud, "115200"), terminal);
    w->inittab = system_with_line(w, without_others(w, system_inittab(w), id), id, line);
    return true;
}
