/* Files over a serial line, to whoever receives them there, or from whoever sends them. */
#include "api/bench.h"
#include "base/bytes.h"
#include "base/out.h"
#include "base/text.h"
#include "link/xmodem.h"
#include "loaders/loaders.h"
#include "mosaicum/wires.h"

#include <errno.h>
#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum { LISTENS_MS = 1200, ANSWERS_MS = 1500, MOST_HEARD = 4096, READ = 4096 };

struct send_job {
    mosaicum *m;
    const struct mosaicum_send *request;
    const struct mos_wires *wires;
    const char *port;
    int line;
    enum mos_xmodem_kind kind;
    const struct mos_loader_orders *orders; /* of the loader that may be there */
    struct mos_xmodem_file *files;
    int *handles; /* of them, open */
    struct mos_xmodem sender;
    int64_t began;
    char heard[MOST_HEARD]; /* before it begins; NUL-terminated */
    size_t heard_length;
    struct report_table table;
    /* taking */
    struct mos_xmodem_receiver receiver;
    struct mos_out out;
    const char *file; /* that is taken; NULL: none yet */
    bool opened;
};

static int64_t now_of(const struct send_job *j) {
    return j->m->ctx.host->now_ns(j->m->ctx.host);
}

static bool fails(struct send_job *j, const char *why) {
    return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "%s: %s", j->port, why);
}

static bool failed(struct send_job *j, int e) {
    return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e == EINTR ? 0 : e,
                    e == EINTR ? "%s: interrupted" : "The line at %s", j->port);
}

static bool write_line(struct send_job *j, const void *bytes, size_t length) {
    int e = j->wires->write(j->wires, j->line, bytes, length);
    return !e || failed(j, e);
}

/* What has come until then, at most. */
static bool read_line(struct send_job *j, int64_t until, uint8_t *to, size_t room, size_t *got) {
    unsigned ready = 0;
    *got = 0;
    int e = j->wires->wait(j->wires, &j->line, 1, until - now_of(j), &ready);
    if (!e && ready)
        e = j->wires->read(j->wires, j->line, to, room, got);
    return !e || failed(j, e);
}

static void progress(struct send_job *j, const char *what, uint64_t done, uint64_t total) {
    if (j->m->ctx.progress)
        j->m->ctx.progress(j->m->ctx.progress_self, what, done, total);
}

/* ---- who is there ---- */

static bool hear(struct send_job *j, int64_t ns) {
    int64_t until = now_of(j) + ns;
    while (now_of(j) < until) {
        uint8_t bytes[256];
        size_t got;
        if (!read_line(j, until, bytes, sizeof bytes, &got))
            return false;
        for (size_t i = 0; i < got; i++) {
            if (j->heard_length + 1 == sizeof j->heard)
                j->heard_length = 0;
            j->heard[j->heard_length++] = bytes[i] ? (char)bytes[i] : '?';
            j->heard[j->heard_length] = 0;
        }
    }
    return true;
}

static bool heard_end(const struct send_job *j, const char *text) {
    return mos_text_ends(j->heard, text);
}

/* Somebody waits for a file: calls are all that comes. */
static bool is_called(const struct send_job *j) {
    char last = j->heard_length ? j->heard[j->heard_length - 1] : 0;
    return last == 'C' || last == 0x15;
}

/* A loader at its prompt is told to receive; whoever calls already is left alone. */
static bool start_receiver(struct send_job *j) {
    const struct mos_loader_orders *orders = j->orders;
    struct mos_buf command = {.arena = j->m->arena};
    if (!hear(j, LISTENS_MS * MS))
        return false;
    if (is_called(j))
        return true;
    j->heard_length = 0;
    if (!write_line(j, "\r", 1) || !hear(j, ANSWERS_MS * MS))
        return false;
    if (!heard_end(j, orders->prompt)) {
        if (j->request->note)
            j->request->note(j->request->self,
                             "no loader's prompt is there: start the receiver on the board", false);
        return true;
    }
    mos_buf_printf(&command, "%s%s%s\r",
                   j->kind == MOS_YMODEM ? orders->receives : orders->receives_xmodem,
                   j->request->address ? " " : "", j->request->address ? j->request->address : "");
    return write_line(j, command.data, command.length);
}

/* ---- sending ---- */

static bool open_files(struct send_job *j) {
    const struct mosaicum_send *r = j->request;
    const struct mos_host *h = j->m->ctx.host;
    j->files = mos_alloc_array(j->m->arena, r->count, sizeof *j->files);
    j->handles = mos_alloc_array(j->m->arena, r->count, sizeof *j->handles);
    for (size_t i = 0; i < r->count; i++)
        j->handles[i] = -1;
    for (size_t i = 0; i < r->count; i++) {
        struct mos_file_info info;
        run_allow(j->m, r->files[i], MOS_REACH_READ);
        h = j->m->ctx.host;
        int e = h->open(h, r->files[i], MOS_OPEN_READ, &j->handles[i]);
        e = e ? e : h->file_info(h, j->handles[i], &info);
        if (e)
            return mos_fail(&j->m->error, MOS_ERROR_USAGE, e, "Opening %s", r->files[i]);
        if (info.kind != MOS_FILE_REGULAR)
            return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s is no file", r->files[i]);
        const char *name = strrchr(r->files[i], '/');
        j->files[i] = (struct mos_xmodem_file){name ? name + 1 : r->files[i], info.size};
    }
    return true;
}

static void close_files(struct send_job *j) {
    const struct mos_host *h = j->m->ctx.host;
    for (size_t i = 0; j->handles && i < j->request->count; i++)
        if (j->handles[i] >= 0)
            h->close(h, j->handles[i]);
}

static bool send_packet(struct send_job *j) {
    const struct mos_host *h = j->m->ctx.host;
    uint8_t packet[MOS_XMODEM_PACKET];
    uint64_t at;
    size_t length, got, n = mos_xmodem_next(&j->sender, now_of(j), packet, &at, &length);
    if (length) {
        size_t i = j->sender.current;
        int e = h->pread(h, j->handles[i], packet + 3, length, at, &got);
        if (e || got != length)
            return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e, "%s changed while it was read",
                            j->request->files[i]);
        n = mos_xmodem_seal(&j->sender, packet, length);
        progress(j, j->files[i].name, at, j->files[i].size);
    }
    return !n || write_line(j, packet, n);
}

static const char *rate(struct send_job *j, uint64_t bytes) {
    double seconds = (double)(now_of(j) - j->began) / 1e9;
    return mos_printf(j->m->arena, "%.1f s, %.1f KiB/s", seconds,
                      seconds > 0 ? (double)bytes / 1024 / seconds : 0);
}

static void add_row(struct send_job *j, const char *name, uint64_t bytes, uint64_t resent) {
    cell_text(&j->table, name);
    cell_size(&j->table, bytes);
    cell_text(&j->table, rate(j, bytes));
    cell_number(&j->table, resent);
}

static bool send_all(struct send_job *j) {
    uint8_t bytes[256];
    size_t got, told = 0;
    unsigned before = 0; /* sent again, for the files before */
    if (!open_files(j) || !start_receiver(j))
        return false;
    mos_xmodem_begin(&j->sender, j->kind, j->files, j->request->count, now_of(j));
    if (is_called(j))
        mos_xmodem_take(&j->sender, (const uint8_t *)j->heard + j->heard_length - 1, 1, now_of(j));
    j->began = now_of(j);
    while (j->sender.state < MOS_XMODEM_DONE) {
        if (!send_packet(j) || j->sender.state >= MOS_XMODEM_DONE ||
            !read_line(j, j->sender.due, bytes, sizeof bytes, &got))
            break;
        mos_xmodem_take(&j->sender, bytes, got, now_of(j));
        for (; told < j->sender.current; told++) {
            add_row(j, j->files[told].name, j->files[told].size, j->sender.resent - before);
            before = j->sender.resent;
            j->began = now_of(j);
        }
    }
    if (j->sender.state == MOS_XMODEM_DONE) {
        add_row(j, j->files[j->sender.current].name, j->files[j->sender.current].size,
                j->sender.resent - before);
        return true;
    }
    j->wires->write(j->wires, j->line, "\x18\x18\x18\x18\x18", 5); /* both sides give up */
    return fails(j, j->sender.why ? j->sender.why : "it was not sent");
}

/* ---- taking ---- */

static bool begin_file(struct send_job *j) {
    const struct mosaicum_send *r = j->request;
    const struct mos_xmodem_receiver *x = &j->receiver;
    struct mos_file_info info;
    run_allow(j->m, r->output, MOS_REACH_READ | MOS_REACH_WRITE);
    const struct mos_host *h = j->m->ctx.host;
    bool folder = h->info(h, r->output, true, &info) == 0 && info.kind == MOS_FILE_FOLDER;
    if (j->file && !folder)
        return fails(j, "several files come: name a folder by -o");
    const char *name = mos_file_name(j->m->arena, *x->name ? x->name : "received");
    j->file = folder ? mos_path_join(j->m->arena, r->output, name) : r->output;
    j->began = now_of(j);
    j->opened = mos_out_open(&j->out, &j->m->ctx, j->file, true);
    return j->opened;
}

static bool take_news(struct send_job *j, enum mos_xmodem_news news) {
    struct mos_xmodem_receiver *x = &j->receiver;
    if (news == MOS_XMODEM_FILE)
        return begin_file(j);
    if (news == MOS_XMODEM_BYTES) {
        if (!j->opened && !begin_file(j)) /* XMODEM tells no name */
            return false;
        int e = mos_out_write(&j->out, x->bytes, x->length, x->at);
        progress(j, j->file, x->at, x->size == UINT64_MAX ? 0 : x->size);
        return !e || mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e, "Writing %s", j->file);
    }
    if (news == MOS_XMODEM_END) {
        if (!j->opened && !begin_file(j))
            return false;
        j->opened = false;
        add_row(j, j->file, x->got, 0);
        return mos_out_commit(&j->out, x->got, true);
    }
    return true;
}

static bool take_answers(struct send_job *j) {
    uint8_t answers[8];
    size_t n = mos_xmodem_answer(&j->receiver, now_of(j), answers);
    return !n || write_line(j, answers, n);
}

static bool take_all(struct send_job *j) {
    uint8_t bytes[READ];
    size_t got, taken;
    bool ok = true;
    mos_xmodem_receive(&j->receiver, j->kind, now_of(j));
    while (ok && !j->receiver.done && !j->receiver.failed) {
        ok = take_answers(j) && read_line(j, j->receiver.due, bytes, sizeof bytes, &got);
        for (size_t i = 0; ok && i < got; i += taken) {
            ok = take_news(j, mos_xmodem_hear(&j->receiver, bytes + i, got - i, now_of(j), &taken));
            if (j->receiver.done || j->receiver.failed)
                break;
        }
    }
    if (ok)
        take_answers(j);
    else
        j->wires->write(j->wires, j->line, "\x18\x18\x18\x18\x18", 5);
    if (j->opened)
        mos_out_abandon(&j->out);
    return ok && (!j->receiver.failed || fails(j, j->receiver.why));
}

/* ---- the job ---- */

static bool find_kind(struct send_job *j) {
    static const struct {
        const char *name;
        enum mos_xmodem_kind kind;
    } kinds[] = {{"ymodem", MOS_YMODEM}, {"xmodem", MOS_XMODEM}, {"xmodem-1k", MOS_XMODEM_1K}};
    const char *wanted = j->request->kind ? j->request->kind : "ymodem";
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++)
        if (strcmp(kinds[i].name, wanted) == 0) {
            j->kind = kinds[i].kind;
            return j->kind == MOS_YMODEM || j->request->count < 2 ||
                   mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                            "XMODEM sends one file: only YMODEM has names for several");
        }
    return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                    "There is no way %s; there are ymodem, xmodem and xmodem-1k", wanted);
}

static bool opens(struct send_job *j) {
    const struct mosaicum_send *r = j->request;
    const struct mos_bench_unit *unit;
    j->wires = j->m->ctx.host->wires;
    return bench_unit(j->m, r->bench, r->unit, NULL, &unit) &&
           bench_open(j->m, unit, r->port, r->speed, &j->port, &j->line);
}

enum mosaicum_status mosaicum_send(mosaicum *m, const struct mosaicum_send *request) {
    static const struct mosaicum_column columns[] = {{"file", "file", false},
                                                     {"size", "size", true},
                                                     {"rate", "", false},
                                                     {"resent", "sent again", true}};
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    struct send_job *j = mos_alloc(m->arena, sizeof *j);
    *j = (struct send_job){.m = m, .request = request, .orders = mos_dialect_at(0)->orders};
    j->table = report_start(&m->report, request->output ? "taken" : "sent",
                            request->output ? "Taken" : "Sent", columns, 4);
    if (find_kind(j) && opens(j)) {
        bool ok = request->output ? take_all(j) : send_all(j);
        j->wires->close(j->wires, j->line);
        close_files(j);
        if (ok)
            report_end(&m->report, &j->table);
    }
    return run_status(m);
}
