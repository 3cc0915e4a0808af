/* What a board makes for itself when it starts for the first time, and what that start's end takes
 * away again: a script for the board's shell, and what starts it.  There is no date in it: a board
 * has no clock then. */
#include "plan/first-start.h"
#include "plan/system_internal.h"

#include "base/text.h"

#include <string.h>

/* It makes the keys that are missing, each under another name first. */
static const char key_maker[] = "/usr/bin/ssh-keygen";

bool mos_first_start_makes_keys(const struct mos_inventory *inv, struct mos_arena *arena) {
    return mos_inv_has(inv, arena, key_maker);
}

static bool is_made(const struct mos_value *v) {
    return !v || (mos_has(v) && strcmp(v->text, "made") == 0);
}

bool mos_first_start_host_keys(const struct mos_first_start *f) {
    return f && is_made(f->host_keys);
}

bool mos_first_start_machine_id(const struct mos_first_start *f) {
    return f && is_made(f->machine_id);
}

static void put_keys_part(struct system_writer *w, struct mos_buf *b) {
    if (mos_inv_has(w->region->volume->inventory, w->arena, key_maker))
        mos_buf_text(b, "    ssh-keygen -A || exit 1\n");
}

/* The user's lines and the keys that were put there; what else lies in its home stays. */
static void put_end_part(struct mos_buf *b, const struct mos_system *s) {
    for (size_t i = 0; i < s->users.count; i++) {
        const struct mos_user *u = s->users.items[i];
        if (mos_user_span_of(u->until) != MOS_USER_FIRST_START)
            continue;
        mos_buf_text(b, "    remove_user '");
        for (const char *p = u->r.name; *p; p++) /* it becomes a pattern */
            mos_buf_printf(b, *p == '.' ? "[.]" : "%c", *p);
        mos_buf_text(b, "'\n");
    }
}

/* What another program of the root does, as one word of the shell. */
static void put_program(struct mos_buf *b, const struct mos_value *program) {
    mos_buf_text(b, "    '");
    for (const char *p = program->text; *p; p++)
        if (*p == '\'')
            mos_buf_text(b, "'\\''");
        else
            mos_buf_char(b, *p);
    mos_buf_text(b, "' || exit 1\n");
}

static const char *script_of(struct system_writer *w, const struct mos_system *s) {
    const struct mos_first_start *f = s->first_start;
    struct mos_buf b = {.arena = w->arena};
    bool next = mos_first_end_of(f->ends) != MOS_FIRST_ENDS_COMMAND;
    mos_buf_text(
        &b,
        "#!/bin/sh\n"
        "# Made by Mosaicum.  \"begin\" runs at each start, before anybody can log in;\n"
        "# \"end\" ends the first start.  /" MOS_FIRST_START_STATE " says how far it is, "
        "and goes at the end.\n"
        "state=/" MOS_FIRST_START_STATE "\n"
        "[ -f $state ] || exit 0\n\n"
        "# What is written has its name only when it is whole: power may go at any time.\n"
        "remove_user() {\n"
        "    home=$(sed -n \"s/^$1:[^:]*:[^:]*:[^:]*:[^:]*:\\([^:]*\\):.*/\\1/p\" /etc/passwd)\n"
        "    [ -z \"$home\" ] || rm -f \"$home/.ssh/authorized_keys\"\n"
        "    for file in /etc/passwd /etc/shadow /etc/group /etc/gshadow; do\n"
        "        [ -f $file ] || continue\n"
        "        cp -p $file $file.new && sed \"/^$1:/d\" $file >$file.new && sync && "
        "mv $file.new $file || exit 1\n"
        "    done\n"
        "}\n\n"
        "begin() {\n");
    if (mos_first_start_host_keys(f))
        put_keys_part(w, &b);
    else if (mos_has(f->host_keys))
        put_program(&b, f->host_keys);
    if (mos_first_start_machine_id(f))
        mos_buf_text(&b, "    if [ ! -s /etc/machine-id ]; then\n"
                         "        tr -d - </proc/sys/kernel/random/uuid >/etc/machine-id.new &&\n"
                         "            mv /etc/machine-id.new /etc/machine-id || exit 1\n"
                         "    fi\n");
    else
        put_program(&b, f->machine_id);
    mos_buf_text(&b, "    sync\n"
                     "    echo begun >$state.new && mv $state.new $state && sync\n"
                     "}\n\n"
                     "end() {\n");
    put_end_part(&b, s);
    mos_buf_printf(&b,
                   "    rm -f $state && sync\n"
                   "}\n\n"
                   "case \"$1-$(cat $state)\" in\n"
                   "begin-new) begin ;;\n"
                   "begin-begun) %s ;;\n"
                   "end-*) end ;;\n"
                   "*) echo \"Use: first-start begin, or first-start end\" >&2; exit 2 ;;\n"
                   "esac\n",
                   next ? "end" : ": ;; # only the command ends it");
    return mos_buf_string(&b);
}

static const char unit[] = "[Unit]\n"
                           "Description=What only this board has is made at its first start\n"
                           "ConditionPathExists=/" MOS_FIRST_START_STATE "\n"
                           "DefaultDependencies=no\n"
                           "After=local-fs.target systemd-random-seed.service\n"
                           "Before=sysinit.target shutdown.target\n"
                           "Conflicts=shutdown.target\n\n"
                           "[Service]\n"
                           "Type=oneshot\n"
                           "RemainAfterExit=yes\n"
                           "ExecStart=/" MOS_FIRST_START_SCRIPT " begin\n\n"
                           "[Install]\n"
                           "WantedBy=sysinit.target\n";

bool system_put_first_start(struct system_writer *w, const struct mos_system *s) {
    const struct mos_first_start *f = s->first_start;
    if (!f || f->r.broken || !mos_has(f->by) || (f->host_keys && !mos_has(f->host_keys)) ||
        (f->machine_id && !mos_has(f->machine_id)))
        return true;
    if (!system_put(w, MOS_FIRST_START_SCRIPT, 0755, 0, script_of(w, s)) ||
        !system_put(w, MOS_FIRST_START_STATE, 0644, 0, "new\n") ||
        (mos_first_start_machine_id(f) && !system_put(w, "etc/machine-id", 0444, 0, "")))
        return false;
    if (mos_starter_of(f->by) == MOS_STARTER_SYSTEMD)
        return system_put(w, "etc/systemd/system/first-start.service", 0644, 0, unit) &&
               system_put_link(w, "etc/systemd/system/sysinit.target.wants/first-start.service",
                               "../first-start.service");
    system_add_action(w, "frst", "", system_has_runlevels(w) ? "bootwait" : "wait",
                      "/" MOS_FIRST_START_SCRIPT " begin");
    return true;
}
