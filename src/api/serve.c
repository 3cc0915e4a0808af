/* Serves what was built to boards over the network, and says what they fetch. */
#include "api/serve.h"

#include "base/address.h"
#include "base/text.h"
#include "ledger/ledger.h"

#include <stdlib.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

enum { TFTP = 69, HTTP = 80, MOST_PORT = 65535 };

/* ---- boards ---- */

/* It is not what the definition says now; that may well be meant. */
static void tell_stale(struct serve_job *j, struct run_task *t, const struct serve_board *b) {
    struct mos_ledger_last last;
    const char *stamp = run_fill(t->plan, false, NULL) ? run_stamp(t) : NULL;
    if (!stamp || !mos_ledger_last(&t->ctx, b->out, &last) || !last.stamp)
        mos_vec_push_pointer(
            &j->m->not_proved,
            mos_printf(j->m->arena, "that %s is built as its definition says now", b->selector));
    else if (strcmp(stamp, last.stamp) != 0)
        serve_note(j, true,
                   mos_printf(j->m->arena,
                              "%s: what was built is not what its definition says now; mosaicum "
                              "build %s makes it so, also while this serves",
                              b->selector, b->selector));
}

static bool add_board(struct serve_job *j, const struct mos_selection *s) {
    mosaicum *m = j->m;
    struct run_task *t = run_one(m, s);
    if (!t || !run_plan_alone(t)) {
        if (t && t->error.kind && !m->error.kind)
            m->error = t->error;
        run_finish(t);
        run_collect(m, t->result, 1, false);
        return false;
    }
    struct serve_board *b = mos_alloc(m->arena, sizeof *b);
    const char *out =
        j->request->out ? j->request->out : mos_path_join(m->arena, m->options.workspace, "out");
    *b = (struct serve_board){
        .selector = s->text, .out = mos_path_join(m->arena, out, s->text), .def = t->plan->board};
    const struct mos_network *n = b->def->boot ? b->def->boot->network : NULL;
    b->folder = n ? mos_text_or(n->folder, s->text) : s->text;
    mos_vec_push_pointer(&j->boards, b);
    if (!bench_unit(m, j->request->bench, j->request->unit, s->text, &b->unit))
        return false;
    const char *ethernet = b->unit ? mos_text_or(b->unit->ethernet, NULL) : NULL;
    if (ethernet && !mos_dhcp_ethernet(ethernet, b->ethernet))
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "%s: %s is no hardware address of a network port, as in 52:54:00:12:34:56",
                        place_text(m->arena, b->unit->ethernet->place), ethernet);
    b->has_ethernet = ethernet != NULL;
    if (!serve_load(j, b))
        return false;
    tell_stale(j, t, b);
    t->ctx.findings.items.count = 0; /* check tells them */
    return true;
}

/* Those that are named; else those that are built. */
static bool find_boards(struct serve_job *j) {
    mosaicum *m = j->m;
    const struct mosaicum_serve *r = j->request;
    const char *out = r->out ? r->out : mos_path_join(m->arena, m->options.workspace, "out");
    run_allow(m, out, MOS_REACH_READ);
    const struct mos_vec *all =
        run_open(m) ? run_select(m, r->selectors, r->selector_count, true) : NULL;
    if (!all || m->error.kind)
        return false;
    for (size_t i = 0; i < all->count; i++) {
        const struct mos_selection *s = mos_vec_at(all, i);
        const char *ledger =
            mos_path_join(m->arena, mos_path_join(m->arena, out, s->text), "ledger.json");
        if ((r->selector_count || mos_exists(&m->ctx, ledger)) && !add_board(j, s))
            return false;
    }
    if (r->unit && j->boards.count > 1)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "--unit is for one board: name the one that it is");
    return j->boards.count ||
           mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                    "Nothing is built here that could be served: mosaicum build");
}

/* ---- what is asked for ---- */

static bool read_port(struct serve_job *j, const char *text, unsigned usual, uint16_t *out) {
    char *end;
    unsigned long n = text ? strtoul(text, &end, 10) : usual;
    if (text && (*end || end == text || *text < '0' || *text > '9' || !n || n > MOST_PORT))
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s is no port, 1 to %d", text,
                        (int)MOST_PORT);
    *out = (uint16_t)n;
    return true;
}

static bool read_ways(struct serve_job *j) {
    const char *by = j->request->by;
    j->by_tftp = !by || strcmp(by, "tftp") == 0;
    j->by_http = !by || strcmp(by, "http") == 0;
    return j->by_tftp || j->by_http ||
           mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "--by is tftp or http, not %s", by);
}

/* A company's network is no place for guests: one address, for one board that is known. */
static bool read_lease(struct serve_job *j) {
    const char *address = j->request->address;
    unsigned prefix;
    if (!address)
        return true;
    if (!mos_ipv4_read(address, &j->dhcp.address, &prefix) || prefix != 32)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s is no IPv4 address for a board",
                        address);
    const struct serve_board *b = mos_vec_pointer(&j->boards, 0);
    if (j->boards.count != 1)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                        "--address is for one board: name the one that gets it");
    if (!b->has_ethernet)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                        "An address is given to the board's own hardware address only: state it as "
                        "ethernet of its unit in the bench file");
    memcpy(j->dhcp.ethernet, b->ethernet, sizeof b->ethernet);
    j->dhcp.file = "";
    for (size_t i = 0; i < b->files.count; i++) {
        const struct serve_file *f = mos_vec_at(&b->files, i);
        if (strncmp(f->name, "network-boot.", 13) == 0 && strcmp(f->name + 13, "txt") != 0)
            j->dhcp.file = mos_printf(j->m->arena, "%s/%s", b->folder, f->name);
    }
    j->by_dhcp = true;
    return true;
}

/* ---- telling ---- */

static void tell_boards(struct serve_job *j) {
    for (size_t i = 0; i < j->boards.count; i++) {
        const struct serve_board *b = mos_vec_pointer(&j->boards, i);
        uint64_t bytes = 0;
        for (size_t k = 0; k < b->files.count; k++) {
            const struct serve_file *f = mos_vec_at(&b->files, k);
            bytes += f->size;
        }
        serve_note(j, false,
                   mos_printf(j->m->arena, "%s: %zu files, %s%s%s", b->selector, b->files.count,
                              mos_size_about(j->m->arena, bytes), b->unit ? ", unit " : "",
                              b->unit ? b->unit->r.name : ""));
    }
}

static void report(struct serve_job *j) {
    static const struct mosaicum_column columns[] = {
        {"board", "board", false}, {"fetched", "files fetched", true}, {"bytes", "bytes", true}};
    struct report_table t = report_start(
        &j->m->report, "served",
        j->asked_in_vain ? mos_printf(j->m->arena, "Served; %zu request%s for what is not here",
                                      j->asked_in_vain, j->asked_in_vain == 1 ? " was" : "s were")
                         : "Served",
        columns, 3);
    for (size_t i = 0; i < j->boards.count; i++) {
        const struct serve_board *b = mos_vec_pointer(&j->boards, i);
        cell_text(&t, b->selector);
        cell_number(&t, b->fetched);
        cell_about(&t, b->bytes);
    }
    report_end(&j->m->report, &t);
}

static void fresh_scratch(struct serve_job *j) {
    if (j->scratch)
        mos_arena_free(j->scratch);
    j->scratch = mos_arena_new(&j->m->out_of_memory);
}

static void work(struct serve_job *j) {
    const struct mosaicum_serve *r = j->request;
    if (!j->wires || !j->wires->open_datagrams) {
        mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "This computer's network is not to be seen");
        return;
    }
    if (!read_ways(j) || !read_port(j, r->tftp_port, TFTP, &j->tftp_port) ||
        !read_port(j, r->http_port, HTTP, &j->http_port) || !find_boards(j) || !read_lease(j) ||
        !serve_choose_network(j))
        return;
    tell_boards(j);
    int64_t looked = 0;
    bool goes_on = true;
    while (goes_on) {
        int64_t now = serve_now(j);
        if (!looked || now - looked >= SECOND) {
            fresh_scratch(j);
            goes_on = serve_keep_open(j);
            looked = now;
        }
        goes_on = goes_on && serve_step(j);
    }
    serve_shut(j);
    report(j);
}

enum mosaicum_status mosaicum_serve(mosaicum *m, const struct mosaicum_serve *request) {
    struct serve_job *j = NULL;
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    j = mos_alloc(m->arena, sizeof *j);
    *j = (struct serve_job){.m = m, .request = request, .wires = m->ctx.host->wires};
    j->boards = mos_vec_make(m->arena, sizeof(struct serve_board *));
    fresh_scratch(j);
    work(j);
    for (size_t i = 0; i < j->boards.count; i++) {
        struct serve_board *b = mos_vec_pointer(&j->boards, i);
        if (b->arena)
            mos_arena_free(b->arena);
    }
    mos_arena_free(j->scratch);
    return run_status(m);
}
