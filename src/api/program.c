/* Programs boards: the steps of a way, in their order, and what came of each. */
#include "api/program.h"

#include "base/address.h"
#include "base/bytes.h"
#include "base/hash.h"
#include "base/text.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static enum mos_program_way way_of(const struct program_step *s) {
    return mos_has(s->def->write) ? mos_program_way_of(s->def->by) : MOS_PROGRAM_WAY_UNSTATED;
}

static bool needs_line(const struct program_step *s) {
    enum mos_program_way by = way_of(s);
    return mos_true(s->def->prompt) || s->def->type.count || by == MOS_PROGRAM_BY_NETWORK ||
           by == MOS_PROGRAM_BY_SERIAL || (mos_has(s->def->sees) && !s->def->command.count);
}

/* ---- the way ---- */

static bool find_way(struct program_job *j) {
    const struct mos_named *ways = &j->plan->board->programming;
    const char *selector = j->plan->board->selector, *name = j->request->way;
    struct mos_buf known = {.arena = j->m->arena};
    for (size_t i = 0; i < ways->count; i++)
        mos_buf_printf(&known, "%s%s", i ? ", " : "", ((struct mos_record *)ways->items[i])->name);
    if (!ways->count)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                        "%s has no way of programming: state one below programming", selector);
    if (!name && ways->count > 1)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s has several ways; name one: %s",
                        selector, mos_buf_string(&known));
    j->way = name ? mos_named_get(ways, name) : ways->items[0];
    if (!j->way)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s has no way %s; it has %s", selector,
                        name, mos_buf_string(&known));
    return true;
}

/* This computer's address, and what the board gets meanwhile. */
static bool find_addresses(struct program_job *j, const char *step) {
    const struct mosaicum_program *r = j->request;
    struct mos_error *error = &j->m->error;
    uint32_t board;
    unsigned prefix;
    if (!r->address || !r->board_address)
        return mos_fail(error, MOS_ERROR_USAGE, 0,
                        "Step %s goes through the network: give --address, this computer's there, "
                        "and --board-address, which the board gets meanwhile, as in 192.0.2.17/24",
                        step);
    if (!mos_ipv4_read(r->address, &j->own_address, &prefix) || prefix != 32)
        return mos_fail(error, MOS_ERROR_USAGE, 0, "%s is no IPv4 address", r->address);
    if (!mos_ipv4_read(r->board_address, &board, &prefix) || !prefix || prefix > 30)
        return mos_fail(error, MOS_ERROR_USAGE, 0,
                        "%s is no IPv4 address with its prefix, as in 192.0.2.17/24",
                        r->board_address);
    uint32_t mask = mos_ipv4_mask(prefix);
    if ((board ^ j->own_address) & mask)
        return mos_fail(error, MOS_ERROR_USAGE, 0, "%s and %s are not in one network", r->address,
                        r->board_address);
    if (board == j->own_address)
        return mos_fail(error, MOS_ERROR_USAGE, 0,
                        "%s cannot be both the computer's and the board's", r->address);
    j->board_address = mos_ipv4_text(j->m->arena, board);
    j->netmask = mos_ipv4_text(j->m->arena, mask);
    return true;
}

/* What board.programming has told, and a waiver may have accepted: it cannot work all the same. */
static bool can_work(struct program_job *j, const struct program_step *s) {
    const struct mos_loader_orders *orders = j->plan->dialect ? j->plan->dialect->orders : NULL;
    const struct mos_medium *medium = mos_has(s->def->write) ? s->def->write->target : NULL;
    const char *lacks = NULL;
    switch (way_of(s)) {
    case MOS_PROGRAM_BY_USB_DISK:
    case MOS_PROGRAM_BY_DFU:
        lacks = s->def->usb ? NULL : "no USB device is stated";
        break;
    case MOS_PROGRAM_BY_NETWORK:
    case MOS_PROGRAM_BY_SERIAL:
        lacks = !orders ? "no loader that takes commands is stated"
                : !medium || !mos_has(medium->loader)
                    ? "what the loader calls the medium is not stated"
                    : orders->takes(medium->loader->text);
        break;
    default:
        lacks = s->def->write ? "how the image gets there is not stated" : NULL;
    }
    return !lacks || mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                              "Step %s cannot work: %s (mosaicum explain board.programming)",
                              s->def->r.name, lacks);
}

static bool find_steps(struct program_job *j) {
    const struct mos_named *steps = &j->way->steps;
    j->count = steps->count;
    j->steps = mos_alloc_array(j->m->arena, j->count + 1, sizeof *j->steps);
    for (size_t i = 0; i < j->count; i++) {
        struct program_step *s = &j->steps[i];
        *s = (struct program_step){.def = steps->items[i]};
        if (!can_work(j, s))
            return false;
        if (needs_line(s) && !j->request->serial)
            return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                            "Step %s talks to the board: give --serial, its port on this computer",
                            s->def->r.name);
        if (way_of(s) == MOS_PROGRAM_BY_NETWORK && !j->netmask &&
            !find_addresses(j, s->def->r.name))
            return false;
        if (s->def->command.count && j->m->ctx.no_run)
            return mos_fail(&j->m->error, MOS_ERROR_SAFETY, 0,
                            "Step %s runs %s, which --no-run forbids", s->def->r.name,
                            mos_text_or(s->def->command.items[0], "a program"));
    }
    return true;
}

/* ---- what was built ---- */

/* The file of a medium's image ("emmc.boot0" of an area); NULL with an error. */
static const char *image_of(struct program_job *j, const char *medium) {
    mosaicum *m = j->m;
    const char *ledger = mos_path_join(m->arena, j->folder, "ledger.json");
    struct mos_vec names = mos_ledger_image_names(&m->ctx, ledger);
    for (size_t i = 0; i < names.count; i++) {
        struct mos_ledger_image_last last;
        const char *name = mos_vec_pointer(&names, i);
        if (mos_ledger_image_last(&m->ctx, ledger, name, &last) && last.medium &&
            strcmp(last.medium, medium) == 0)
            return mos_path_join(m->arena, j->folder, name);
    }
    mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s has no image of %s", j->folder, medium);
    return NULL;
}

static bool find_images(struct program_job *j) {
    for (size_t i = 0; i < j->count; i++) {
        struct program_step *s = &j->steps[i];
        if (!mos_has(s->def->write))
            continue;
        const char *medium = s->def->write->text;
        if (mos_has(s->def->area))
            medium = mos_printf(j->m->arena, "%s.%s", medium, s->def->area->text);
        s->image = image_of(j, medium);
        if (!s->image)
            return false;
    }
    return true;
}

/* Everything that is written comes from one build, and that is the newest. */
static bool find_build(struct program_job *j, struct run_task *t) {
    mosaicum *m = j->m;
    const char *selector = j->plan->board->selector;
    const char *built = run_fill(t->plan, false, NULL) ? run_stamp(t) : NULL;
    const char *out =
        j->request->out ? j->request->out : mos_path_join(m->arena, m->options.workspace, "out");
    struct mos_ledger_last last;
    j->folder = mos_path_join(m->arena, out, selector);
    run_allow(m, j->folder, MOS_REACH_READ);
    t->ctx.findings.items.count = 0; /* check tells them */
    if (!mos_ledger_last(&m->ctx, j->folder, &last))
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s is not built: mosaicum build %s",
                        selector, selector);
    if (!built || !last.stamp || strcmp(built, last.stamp) != 0)
        return mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                        "What was built of %s is not what its definition says now: mosaicum build "
                        "%s",
                        selector, selector);
    return find_images(j);
}

/* ---- the screen before it ---- */

static void row(struct report_table *t, const char *a, const char *b) {
    cell_text(t, a);
    cell_text(t, b);
}

static bool make_token(struct program_job *j) {
    struct mos_buf all = {.arena = j->m->arena};
    const struct mos_block like = {.port = j->plan->board->selector,
                                   .lun = j->way->r.name,
                                   .model = "",
                                   .serial = "",
                                   .name = ""};
    for (size_t i = 0; i < j->count; i++)
        mos_buf_printf(&all, "%s\n%s\n", program_step_text(j, &j->steps[i]),
                       j->steps[i].hash ? j->steps[i].hash : "");
    return mos_media_token(j->m->arena, &like, all.data, all.length, j->token) ||
           mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "The token cannot be made");
}

static bool screen(struct program_job *j) {
    static const struct mosaicum_column columns[] = {{"what", "", false}, {"text", "", false}};
    mosaicum *m = j->m;
    struct report_table t = report_start(
        &m->report, "before",
        mos_printf(m->arena, "%s, by way %s%s%s", j->plan->board->selector, j->way->r.name,
                   mos_has(j->way->about) ? ": " : "", mos_text_or(j->way->about, "")),
        columns, 2);
    for (size_t i = 0; i < j->count; i++) {
        struct program_step *s = &j->steps[i];
        const char *size, *text = program_step_text(j, s);
        if (s->image) {
            if (!program_looks_at_image(j, s, &size))
                return false;
            text = mos_printf(m->arena, "%s: %s, %s", text, s->image, size);
        }
        row(&t, s->def->r.name, text);
    }
    if (!make_token(j))
        return false;
    row(&t, "is lost", "what those media hold, where the image has something else");
    if (j->boards > 1)
        row(&t, "boards", mos_printf(m->arena, "%u, one after the other", j->boards));
    row(&t, "token", mos_strdup(m->arena, j->token));
    report_end(&m->report, &t);
    return true;
}

static void show(struct program_job *j) {
    mosaicum *m = j->m;
    if (!j->request->show)
        return;
    run_publish_workspace(m);
    run_merge(m);
    j->request->show(j->request->self, m);
    m->published.count = m->finding_count = 0;
    m->report.tables.count = 0;
}

static bool consents(struct program_job *j) {
    const struct mosaicum_program *r = j->request;
    for (const char *const *t = r->yes; t && *t; t++)
        if (mos_media_token_is(j->token, *t))
            return true;
    if (r->ask &&
        r->ask(r->self,
               mos_printf(j->m->arena, "the board of %s", r->serial ? r->serial : "this table"),
               j->token))
        return true;
    return mos_fail(&j->m->error, MOS_ERROR_SAFETY, 0,
                    "Nothing is programmed: nobody has consented%s%s%s", r->ask ? "" : "; --yes ",
                    r->ask ? "" : j->token, r->ask ? "" : " does, for this build");
}

/* ---- boards ---- */

static void outcome(struct program_job *j, bool ok) {
    static const struct mosaicum_column columns[] = {{"step", "step", false},
                                                     {"result", "result", false}};
    mosaicum *m = j->m;
    const char *which =
        j->boards > 1 ? mos_printf(m->arena, "Board %u of %u", j->board, j->boards) : "The board";
    struct report_table t = report_start(
        &m->report, "programmed",
        mos_printf(m->arena, "%s is %sprogrammed", which, ok ? "" : "not "), columns, 2);
    for (size_t i = 0; i < j->count; i++) {
        const struct program_step *s = &j->steps[i];
        cell_text(&t, s->def->r.name);
        if (s->failed)
            cell_alarm(&t, s->result);
        else
            cell_text(&t, s->result ? s->result : "not begun");
    }
    t.table.alarm = !ok;
    report_end(&m->report, &t);
}

/* The line is there before anybody is asked to do anything. */
static bool find_line(struct program_job *j) {
    size_t i = 0;
    while (i < j->count && !needs_line(&j->steps[i]))
        i++;
    return i == j->count || program_opens_line(j, &j->steps[i]);
}

static bool program_board(struct program_job *j) {
    for (size_t i = 0; i < j->count; i++) {
        j->steps[i].failed = false;
        j->steps[i].result = NULL;
    }
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&j->m->ctx, &ignored);
    j->knows_before = j->m->ctx.host->computer && mos_storage_list(&quiet, &j->before);
    bool ok = find_line(j) && program_do_steps(j);
    if (j->serves)
        mos_server_close(j->server);
    if (j->talks)
        mos_talk_close(&j->talk);
    j->serves = j->talks = false;
    outcome(j, ok);
    return ok;
}

static void program_boards(struct program_job *j) {
    mosaicum *m = j->m;
    unsigned good = 0;
    const struct mosaicum_program *r = j->request;
    for (j->board = 1; j->board <= j->boards && !m->error.kind; j->board++) {
        if (j->board > 1 && r->step &&
            !r->step(r->self, "next", mos_printf(m->arena, "board %u of %u", j->board, j->boards),
                     true))
            break;
        bool ok = program_board(j);
        good += ok;
        m->failed_devices += !ok && !m->refused && !m->damaged;
        if (j->board < j->boards)
            show(j);
    }
    if (j->boards > 1)
        report_text(&m->report, "boards", NULL,
                    mos_printf(m->arena, "%u of %u boards are programmed.\n", good, j->boards));
}

enum mosaicum_status mosaicum_program(mosaicum *m, const struct mosaicum_program *request) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    struct program_job *j = mos_alloc(m->arena, sizeof *j);
    *j = (struct program_job){.m = m, .request = request, .boards = request->boards};
    j->boards = j->boards ? j->boards : 1;
    const struct mos_selection *s =
        run_select_one(m, request->selector, "mosaicum write --way WAY");
    struct run_task *t = s ? run_one(m, s) : NULL;
    j->plan = t ? run_plan(t) : NULL;
    if (t && t->error.kind && !m->error.kind)
        m->error = t->error;
    if (!j->plan)
        return run_status(m);
    run_open_to_write(m);
    if (!find_way(j) || !find_steps(j) || !find_build(j, t) || !screen(j)) {
        m->refused = m->refused || !m->error.kind;
        return run_status(m);
    }
    show(j);
    if (!request->only_show && consents(j))
        program_boards(j);
    return run_status(m);
}
