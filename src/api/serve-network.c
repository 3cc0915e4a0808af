/* This computer's side of serving: the interface, what is opened on it, and each packet. */
#include "api/serve.h"

#include "base/address.h"
#include "base/bytes.h"
#include "base/text.h"
#include "link/ranges.h"

#include <errno.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

enum {
    OK = 200,
    PARTIAL = 206,
    NOT_FOUND = 404,
    UNSATISFIABLE = 416,
    MOST_WIRES = MOS_SERVER_TRANSFERS + 4
};

/* ---- the interface ---- */

struct look {
    struct serve_job *j;
    struct mos_own_address found;
    const char *interface; /* of it, kept */
    bool is_there, has_address;
    struct mos_buf all;
};

/* By its name, or by the address that it has. */
static bool look(void *self, const struct mos_own_address *a) {
    struct look *l = self;
    const struct serve_job *j = l->j;
    bool named = j->interface && strcmp(a->interface, j->interface) == 0;
    bool has = j->own ? a->address == j->own : a->address != 0;
    mos_buf_printf(&l->all, "%s%s%s%s", l->all.length ? ", " : "", a->interface,
                   a->address ? " " : "", a->address ? mos_ipv4_text(j->scratch, a->address) : "");
    if (named || (!j->interface && has)) {
        l->is_there = true;
        if (!l->has_address) {
            l->found = *a;
            l->interface = mos_strdup(j->scratch, a->interface);
            l->has_address = has;
        }
    }
    return true;
}

static struct look look_at_network(struct serve_job *j) {
    struct look l = {.j = j, .all = {.arena = j->scratch}};
    if (j->wires->list_addresses)
        j->wires->list_addresses(j->wires, look, &l);
    return l;
}

static bool fails(struct serve_job *j, const char *text) {
    return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s", text);
}

static const char *interfaces(struct serve_job *j) {
    struct look l = look_at_network(j);
    const char *all = mos_buf_string(&l.all);
    return *all ? all : "none";
}

/* Of the bench file, where all of its units say the same. */
static bool take_interface(struct serve_job *j) {
    for (size_t i = 0; i < j->boards.count; i++) {
        const struct serve_board *b = mos_vec_pointer(&j->boards, i);
        const char *name = b->unit ? mos_text_or(b->unit->network, NULL) : NULL;
        if (name && j->interface && strcmp(name, j->interface) != 0)
            return fails(j, mos_printf(j->m->arena,
                                       "These boards are on different interfaces, %s and %s: start "
                                       "one mosaicum serve for each",
                                       j->interface, name));
        j->interface = name ? name : j->interface;
    }
    return j->interface ||
           fails(j, mos_printf(j->m->arena,
                               "It is not known which network the board is on: --at names this "
                               "computer's interface or address, or network of the unit in the "
                               "bench file; there are: %s",
                               interfaces(j)));
}

bool serve_choose_network(struct serve_job *j) {
    const char *at = j->request->at;
    unsigned prefix;
    j->named_address = at && mos_ipv4_read(at, &j->own, &prefix);
    if (j->named_address && (prefix != 32 || !j->own))
        return fails(j, mos_printf(j->m->arena, "%s is no IPv4 address of a computer", at));
    j->interface = j->named_address ? NULL : at;
    return at || take_interface(j);
}

/* ---- opening ---- */

/* Why a port cannot be had, and what to do. */
static bool no_port(struct serve_job *j, const char *what, unsigned port, const char *other,
                    int e) {
    const char *own = mos_ipv4_text(j->m->arena, j->own);
    const char *remedy =
        e == EACCES
            ? mos_printf(
                  j->m->arena,
                  "ports below 1024 are for the system unless it says otherwise: start it by "
                  "sudo, or once: sudo sysctl -w net.ipv4.ip_unprivileged_port_start=%u",
                  port)
        : e == EADDRINUSE
            ? mos_printf(j->m->arena,
                         "another program has it (ss -l%cnp names it): end that one, or %s",
                         port == j->http_port ? 't' : 'u', other)
        : e == EPERM  ? "this user may not bind to one interface: start it by sudo"
        : e == ENODEV ? "the interface is gone"
        : e == ENOSYS ? "its library is not installed (libmicrohttpd12): --by tftp does without"
                      : mos_errno_text(e);
    return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "%s cannot be served at %s, port %u: %s",
                    what, own, port, remedy);
}

static void tell_end(void *self, const struct mos_server_transfer *t, int64_t now);
static void heard(void *self, const struct mos_peer *from);
static bool find(void *self, const struct mos_peer *from, const char *name, struct mos_served *out,
                 const char **why);
static int read_file(void *self, void *file, void *to, size_t length, uint64_t at);
static void read_ahead(void *self, void *file, uint64_t at, size_t length);
static void asked(void *self, const struct mos_http_request *request,
                  struct mos_http_answer *answer);
static void ended(void *self, void *file, bool all);

static int open_tftp(struct serve_job *j) {
    j->tftp = (struct mos_server){.wires = j->wires,
                                  .interface = j->named_address ? NULL : j->interface,
                                  .own = {j->own, j->tftp_port},
                                  .self = j,
                                  .heard = heard,
                                  .find = find,
                                  .read = read_file,
                                  .ahead = read_ahead,
                                  .ended = tell_end};
    return mos_server_open(&j->tftp);
}

static int open_http(struct serve_job *j) {
    const struct mos_peer own = {j->own, j->http_port};
    j->http = (struct mos_http){j, asked, read_file, ended};
    return j->wires->open_http
               ? j->wires->open_http(j->wires, j->named_address ? NULL : j->interface, &own,
                                     &j->http, &j->http_wire)
               : ENOSYS;
}

/* Requests for an address go to everybody. */
static int open_dhcp(struct serve_job *j, const char *interface) {
    const struct mos_peer own = {0, MOS_DHCP_SERVER};
    j->dhcp.own = j->own;
    j->dhcp.mask = mos_ipv4_mask(j->prefix);
    return j->wires->open_datagrams(j->wires, interface, &own, &j->dhcp_wire);
}

void serve_shut(struct serve_job *j) {
    if (j->has_tftp)
        mos_server_close(&j->tftp);
    if (j->has_http)
        j->wires->close(j->wires, j->http_wire);
    if (j->has_dhcp)
        j->wires->close(j->wires, j->dhcp_wire);
    if (j->overhears)
        j->wires->close(j->wires, j->overhear_wire);
    j->has_tftp = j->has_http = j->has_dhcp = j->overhears = j->open = false;
}

static bool open_all(struct serve_job *j, const char *interface) {
    int e = 0;
    if (j->by_tftp && (e = open_tftp(j)) == 0)
        j->has_tftp = true;
    if (e)
        return no_port(j, "TFTP", j->tftp_port, "--by http does without, or --tftp-port", e);
    if (j->by_http && (e = open_http(j)) == 0)
        j->has_http = true;
    if (e)
        return no_port(j, "HTTP", j->http_port, "--by tftp does without, or --http-port", e);
    if (j->by_dhcp && (e = open_dhcp(j, interface)) == 0)
        j->has_dhcp = true;
    return !e || no_port(j, "DHCP", MOS_DHCP_SERVER, "let that one give the address", e);
}

/* The address that the board gets must be of this network. */
static bool lease_fits(struct serve_job *j) {
    uint32_t mask = mos_ipv4_mask(j->prefix), host = j->dhcp.address & ~mask;
    if (!j->by_dhcp)
        return true;
    if (j->dhcp.address == j->own || ((j->dhcp.address ^ j->own) & mask) || !host || host == ~mask)
        return fails(j, mos_printf(j->m->arena,
                                   "%s is no address for a board in the network of "
                                   "%s/%u",
                                   j->request->address, mos_ipv4_text(j->m->arena, j->own),
                                   j->prefix));
    return true;
}

/* What the boards' own scripts ask, where they say it. */
static void compare_server(struct serve_job *j) {
    for (size_t i = 0; i < j->boards.count; i++) {
        const struct serve_board *b = mos_vec_pointer(&j->boards, i);
        const struct mos_network *n = b->def->boot ? b->def->boot->network : NULL;
        const struct mos_value *server = n ? n->server : NULL;
        uint32_t address;
        unsigned prefix;
        if (mos_has(server) && mos_ipv4_read(server->text, &address, &prefix) && address != j->own)
            serve_note(j, true,
                       mos_printf(j->scratch, "%s asks the server %s (%s), and this is %s",
                                  b->selector, server->text, place_text(j->scratch, server->place),
                                  mos_ipv4_text(j->scratch, j->own)));
    }
}

static void tell_open(struct serve_job *j, const char *interface) {
    struct mos_buf b = {.arena = j->scratch};
    if (j->has_tftp)
        mos_buf_printf(&b, "TFTP at port %u", (unsigned)j->tftp_port);
    if (j->has_http)
        mos_buf_printf(&b, "%sHTTP at port %u", b.length ? ", " : "", (unsigned)j->http_port);
    if (j->has_dhcp)
        mos_buf_printf(&b, ", and %s for the board by DHCP", j->request->address);
    serve_note(j, false,
               mos_printf(j->scratch, "Serving at %s (%s): %s%s", mos_ipv4_text(j->scratch, j->own),
                          interface, mos_buf_string(&b), j->carrier ? "" : "; no carrier yet"));
    compare_server(j);
}

bool serve_keep_open(struct serve_job *j) {
    struct look l = look_at_network(j);
    if (j->open && (!l.is_there || l.found.index != j->index)) {
        serve_note(j, true, "The network interface is gone: it is waited for");
        serve_shut(j);
        j->waits = true;
    } else if (j->open) {
        bool address = l.has_address && l.found.address == j->own;
        if (l.found.carrier != j->carrier)
            serve_note(j, !l.found.carrier,
                       l.found.carrier ? "The cable is connected"
                                       : "No carrier: the board is off, "
                                         "resets, or its cable is out");
        if (!address && !j->waits)
            serve_note(j, true,
                       mos_printf(j->scratch,
                                  "%s has lost the address %s (whatever manages the network takes "
                                  "it away with the carrier): it is waited for",
                                  l.interface, mos_ipv4_text(j->scratch, j->own)));
        else if (address && j->waits)
            serve_note(j, false, "The address is back");
        j->waits = !address;
        j->carrier = l.found.carrier;
    }
    if (j->open)
        return true;
    if (!l.is_there && !j->named_address && !j->waits)
        return fails(j, mos_printf(j->m->arena, "This computer has no interface %s; it has: %s",
                                   j->interface, mos_buf_string(&l.all)));
    if (!l.is_there && !j->waits)
        return fails(j, mos_printf(j->m->arena,
                                   "This computer does not have the address %s; it "
                                   "has: %s",
                                   j->request->at, mos_buf_string(&l.all)));
    if (!l.is_there)
        return true;
    if (!l.has_address) {
        if (!j->waits)
            serve_note(j, true,
                       mos_printf(j->scratch,
                                  "%s has no IPv4 address yet: it is waited for (sudo ip address "
                                  "add 192.0.2.1/24 dev %s gives it one)",
                                  l.interface, l.interface));
        j->waits = true;
        return true;
    }
    j->waits = false;
    j->own = l.found.address;
    j->prefix = l.found.prefix;
    j->index = l.found.index;
    j->carrier = l.found.carrier;
    if (!lease_fits(j) || !open_all(j, l.interface))
        return false;
    j->open = true;
    serve_overhear_begin(j, l.found.index, l.interface);
    tell_open(j, l.interface);
    return true;
}

/* ---- what was fetched ---- */

/* "curlew (192.0.2.7)" */
static const char *who(struct serve_job *j, const struct serve_open *f) {
    const struct serve_board *b = serve_board_at(j, f->peer.address);
    const char *address = mos_ipv4_text(j->scratch, f->peer.address);
    return b ? mos_printf(j->scratch, "%s (%s)", b->selector, address) : address;
}

/* "8.1 MiB in 1.3 s, 6.2 MiB/s" */
static const char *speed(struct serve_job *j, const struct serve_open *f, uint64_t bytes) {
    double s = (double)(serve_now(j) - f->began) / (double)SECOND;
    const char *size = mos_size_about(j->scratch, bytes);
    if (s < 0.001)
        return size;
    return mos_printf(j->scratch, "%s in %.*f s, %s/s", size, s < 1 ? 3 : 1, s,
                      mos_size_about(j->scratch, (uint64_t)((double)bytes / s)));
}

static void count(struct serve_open *f) {
    struct serve_board *b = (struct serve_board *)(uintptr_t)f->board;
    b->fetched++;
    b->bytes += f->length;
}

static void tell_end(void *self, const struct mos_server_transfer *t, int64_t now) {
    struct serve_job *j = self;
    struct serve_open *f = t->served.file;
    const struct mos_tftp *x = &t->t;
    const char *how = mos_printf(
        j->scratch, "TFTP, blocks of %u%s%s", x->block,
        x->window > 1 ? mos_printf(j->scratch, ", windows of %u", x->window) : "",
        x->resent ? mos_printf(j->scratch, ", %llu sent again", (unsigned long long)x->resent)
                  : "");
    (void)now;
    if (x->state == MOS_TFTP_DONE) {
        count(f);
        serve_note(j, false,
                   mos_printf(j->scratch, "%s has %s: %s (%s)", who(j, f), f->name,
                              speed(j, f, f->length), how));
    } else
        serve_note(j, x->state == MOS_TFTP_FAILED,
                   mos_printf(j->scratch, "%s %s %s behind %s of %s: %s (%s)", who(j, f),
                              x->state == MOS_TFTP_FAILED ? "does not get" : "leaves off", f->name,
                              mos_size_about(j->scratch, mos_min(x->acked * x->block, f->size)),
                              mos_size_about(j->scratch, f->size),
                              x->why ? x->why : "it asks anew, or serving ends", how));
    serve_close(j, f);
}

static void heard(void *self, const struct mos_peer *from) {
    struct serve_job *j = self;
    mos_overhear_received(&j->overhear, MOS_SERVES_TFTP, from, serve_now(j));
    j->was_asked = true;
}

static bool find(void *self, const struct mos_peer *from, const char *name, struct mos_served *out,
                 const char **why) {
    struct serve_open *f = serve_find(self, from, name, why);
    if (f)
        *out = (struct mos_served){f->size, f};
    return f != NULL;
}

static int read_file(void *self, void *file, void *to, size_t length, uint64_t at) {
    return serve_read(self, file, to, length, at);
}

static void read_ahead(void *self, void *file, uint64_t at, size_t length) {
    serve_read_ahead(self, file, at, length);
}

/* ---- by HTTP ---- */

static void asked(void *self, const struct mos_http_request *q, struct mos_http_answer *a) {
    struct serve_job *j = self;
    const char *why;
    j->was_asked = true;
    if (strcmp(q->path, "/") == 0) {
        *a = (struct mos_http_answer){.status = OK, .text = serve_index(j)};
        return;
    }
    struct serve_open *f = serve_find(j, &q->from, q->path, &why);
    if (!f) {
        *a = (struct mos_http_answer){
            .status = NOT_FOUND, .text = mos_printf(j->scratch, "%s\n%s", why, serve_index(j))};
        return;
    }
    const char *tag = f->hash[0] ? f->hash : NULL;
    bool same = !q->if_range || (tag && strlen(q->if_range) == strlen(tag) + 2 &&
                                 strncmp(q->if_range + 1, tag, strlen(tag)) == 0);
    enum mos_range r = mos_range_read(same ? q->range : NULL, f->size, &f->first, &f->length);
    *a = (struct mos_http_answer){.status = r == MOS_RANGE_PART ? PARTIAL : OK,
                                  .file = f,
                                  .size = f->size,
                                  .first = f->first,
                                  .length = f->length,
                                  .tag = tag};
    f->head = q->head;
    if (r == MOS_RANGE_NONE) {
        *a = (struct mos_http_answer){.status = UNSATISFIABLE, .size = f->size, .text = ""};
        serve_note(j, true,
                   mos_printf(j->scratch, "%s asks for a part of %s that lies behind its end, %s",
                              who(j, f), f->name, mos_size_text(j->scratch, f->size)));
        serve_close(j, f);
    }
}

static void ended(void *self, void *file, bool all) {
    struct serve_job *j = self;
    struct serve_open *f = file;
    const char *part = f->length == f->size ? ""
                                            : mos_printf(j->scratch, ", a part, from byte %llu",
                                                         (unsigned long long)f->first);
    if (!f->head && all) {
        count(f);
        serve_note(j, false,
                   mos_printf(j->scratch, "%s has %s: %s (HTTP%s)", who(j, f), f->name,
                              speed(j, f, f->length), part));
    } else if (!f->head)
        serve_note(j, true,
                   mos_printf(j->scratch, "%s leaves %s off before its end (HTTP%s)", who(j, f),
                              f->name, part));
    serve_close(j, f);
}

/* ---- an address ---- */

static const char *ethernet_text(struct serve_job *j, const uint8_t e[6]) {
    return mos_printf(j->scratch, "%02x:%02x:%02x:%02x:%02x:%02x", e[0], e[1], e[2], e[3], e[4],
                      e[5]);
}

/* Once each: who has its hardware address wrong in the bench file finds it here. */
static void tell_stranger(struct serve_job *j, const uint8_t e[6]) {
    for (size_t i = 0; i < j->stranger_count; i++)
        if (memcmp(j->strangers[i], e, 6) == 0)
            return;
    if (j->stranger_count == sizeof j->strangers / sizeof *j->strangers)
        return;
    memcpy(j->strangers[j->stranger_count++], e, 6);
    serve_note(j, true,
               mos_printf(j->scratch,
                          "%s asks for an address and gets none here: the board is %s, by the "
                          "bench file",
                          ethernet_text(j, e), ethernet_text(j, j->dhcp.ethernet)));
}

static void tell_lease(struct serve_job *j, const struct mos_dhcp_event *event) {
    const char *own = j->request->address, *e = ethernet_text(j, event->ethernet);
    switch (event->kind) {
    case MOS_DHCP_STRANGER:
        tell_stranger(j, event->ethernet);
        break;
    case MOS_DHCP_GIVEN:
        serve_note(j, false, mos_printf(j->scratch, "The board (%s) has the address %s", e, own));
        j->leased = j->dhcp.address;
        break;
    case MOS_DHCP_REFUSED:
        serve_note(j, true,
                   mos_printf(j->scratch,
                              "The board (%s) wants to keep the address %s and is told to ask anew",
                              e, mos_ipv4_text(j->scratch, event->wanted)));
        break;
    case MOS_DHCP_DECLINED:
        serve_note(j, true,
                   mos_printf(j->scratch,
                              "The board (%s) says that somebody else has %s: give it another one "
                              "by --address",
                              e, own));
        break;
    case MOS_DHCP_RELEASED:
        serve_note(j, false, mos_printf(j->scratch, "The board gave %s back", own));
        break;
    default:
        break;
    }
}

static void step_dhcp(struct serve_job *j) {
    uint8_t in[2048], out[MOS_DHCP_PACKET];
    struct mos_peer from, to;
    size_t got;
    while (j->wires->receive(j->wires, j->dhcp_wire, in, sizeof in, &got, &from) == 0) {
        struct mos_dhcp_event event;
        mos_overhear_received(&j->overhear, MOS_SERVES_DHCP, &from, serve_now(j));
        j->was_asked = true;
        size_t n = mos_dhcp_answer(&j->dhcp, in, got, out, &to, &event);
        int e = n ? j->wires->send(j->wires, j->dhcp_wire, out, n, &to) : 0;
        if (e)
            serve_note(j, true,
                       mos_printf(j->scratch, "An answer for the board could not be sent: %s",
                                  mos_errno_text(e)));
        else
            tell_lease(j, &event);
    }
}

/* ---- all of it ---- */

bool serve_step(struct serve_job *j) {
    int wires[MOST_WIRES], e;
    unsigned ready = 0;
    int64_t now = serve_now(j), due = now + SECOND;
    size_t n = 0, http = 0, dhcp = 0, overhear = 0;
    if (j->has_tftp) {
        int64_t wants = mos_server_due(&j->tftp, now);
        n = mos_server_wires(&j->tftp, wires);
        due = wants < due ? wants : due;
    }
    if (j->has_http) {
        wires[http = n++] = j->http_wire;
        due = j->http_due < due ? j->http_due : due;
    }
    if (j->has_dhcp)
        wires[dhcp = n++] = j->dhcp_wire;
    if (j->overhears)
        wires[overhear = n++] = j->overhear_wire;
    e = j->wires->wait(j->wires, wires, n, due - now, &ready);
    if (!e && j->overhears && ready >> overhear & 1)
        serve_overhear(j);
    if (!e && j->has_tftp)
        e = mos_server_step(&j->tftp, ready, serve_now(j));
    now = serve_now(j);
    if (!e && j->has_http && (ready >> http & 1 || now >= j->http_due)) {
        int64_t within = SECOND;
        e = j->wires->step_http(j->wires, j->http_wire, &within);
        j->http_due = now + within;
    }
    if (!e && j->has_dhcp && ready >> dhcp & 1)
        step_dhcp(j);
    serve_tell_obstacles(j);
    if (e && e != EINTR)
        mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e, "Serving at %s",
                 mos_ipv4_text(j->m->arena, j->own));
    return !e;
}
