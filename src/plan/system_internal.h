/* Between the files that make files of the root: system.c, first-start.c, network.c. */
#ifndef MOS_PLAN_SYSTEM_INTERNAL_H
#define MOS_PLAN_SYSTEM_INTERNAL_H

#include "plan/steps.h"

struct system_writer {
    struct mos_plan *plan;
    const struct mos_region_plan *region;
    const struct mos_sink *sink;
    struct mos_arena *arena;
    const char *inittab; /* as it will be; NULL: nobody changes it */
};

/* system-put.c.  Those that put: false when the sink stopped it. */
bool system_put(struct system_writer *w, const char *path, uint16_t mode, uint32_t owner,
                const char *text);
/* A file that an earlier fill may have brought: it keeps its owner, group and mode. */
bool system_put_edited(struct system_writer *w, const char *path, uint16_t mode, const char *text);
bool system_put_folder(struct system_writer *w, const char *path, uint16_t mode, uint32_t owner);
bool system_put_link(struct system_writer *w, const char *path, const char *target);
/* What an earlier fill brought; "" when there is nothing. */
const char *system_old_text(struct system_writer *w, const char *path);
/* The first line of a file of the workspace; NULL after a finding or an error. */
const char *system_first_line(struct system_writer *w, const struct mos_value *path,
                              const char *what);
/* The line of a text that begins with NAME:, as passwd and inittab have them; NULL: none. */
const char *system_line_of(const char *text, const char *name);
/* The text with that line replaced or, when there is none, with one more at its end. */
const char *system_with_line(struct system_writer *w, const char *text, const char *name,
                             const char *line);
/* etc/inittab as it is so far, and whether it is of the kind that has runlevels, whose lines begin
 * with an identifier of at most four letters; else they begin with a terminal, or with nothing. */
const char *system_inittab(struct system_writer *w);
bool system_has_runlevels(struct system_writer *w);
/* A line of etc/inittab that runs a command, in the form that the file has; there once.  id: at
 * most four letters; levels "": all runlevels. */
void system_add_action(struct system_writer *w, const char *id, const char *levels,
                       const char *action, const char *command);

/* log-in.c: on the console, and on no other serial port: the root's own log-in follows it. */
bool system_put_log_in(struct system_writer *w, const struct mos_log_in *l);
/* first-start.c */
bool system_put_first_start(struct system_writer *w, const struct mos_system *s);
/* network.c */
bool system_put_network(struct system_writer *w, const struct mos_system *s);
bool system_put_time_zone(struct system_writer *w, const struct mos_system *s);

#endif
