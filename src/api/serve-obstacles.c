/* What keeps a board from getting its files, as far as it can be seen from here: this computer's
 * own filters, and boards that look for another server. */
#include "api/serve.h"

#include "base/address.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

enum { UNASKED_SECONDS = 60 };

void serve_overhear_begin(struct serve_job *j, unsigned index, const char *interface) {
    struct mos_overhear *o = &j->overhear;
    uint16_t ports[MOS_SERVICES];
    size_t n = 0;
    *o = (struct mos_overhear){.own = j->own};
    o->ports[MOS_SERVES_TFTP] = j->has_tftp ? j->tftp_port : 0;
    o->ports[MOS_SERVES_DHCP] = j->has_dhcp ? MOS_DHCP_SERVER : 0;
    o->ports[MOS_SERVES_HTTP] = j->has_http ? j->http_port : 0;
    for (size_t i = 0; i < MOS_SERVICES; i++)
        if (o->ports[i])
            ports[n++] = o->ports[i];
    snprintf(j->overheard_at, sizeof j->overheard_at, "%s", interface);
    j->opened_at = serve_now(j);
    j->overhears = j->wires->open_overhear &&
                   !j->wires->open_overhear(j->wires, index, ports, n, &j->overhear_wire);
}

void serve_overhear(struct serve_job *j) {
    uint8_t packet[MOS_OVERHEARD];
    size_t got = 1;
    while (got) {
        got = 0;
        if (j->wires->read(j->wires, j->overhear_wire, packet, sizeof packet, &got))
            return; /* its interface went: whoever looks after that says so */
        mos_overhear_packet(&j->overhear, packet, got, serve_now(j));
    }
}

static void tell_sends_badly(struct serve_job *j) {
    int e = j->tftp.sends_badly;
    if (e != j->told_sends_badly && e == EPERM)
        serve_note(j, true, "This computer's firewall drops what is sent to the board");
    else if (e != j->told_sends_badly && e == EMSGSIZE)
        serve_note(j, true, "The board asks for larger blocks than this network takes");
    j->told_sends_badly = e;
}

static void tell_dropped(struct serve_job *j, const struct mos_asking *a) {
    static const char *const words[] = {"TFTP", "DHCP", "HTTP"};
    const struct serve_board *b = serve_board_at(j, a->from.address);
    const char *address = mos_ipv4_text(j->scratch, a->from.address);
    const char *who = !a->from.address ? "Somebody without an address"
                      : b              ? mos_printf(j->scratch, "%s (%s)", b->selector, address)
                                       : address;
    serve_note(j, true,
               mos_printf(j->scratch,
                          "%s asks by %s, and this computer's firewall (or a missing way back) "
                          "drops it: let %s port %u in at %s",
                          who, words[a->service], a->service == MOS_SERVES_HTTP ? "TCP" : "UDP",
                          (unsigned)j->overhear.ports[a->service], j->overheard_at));
}

/* In a company's network everybody looks for somebody: only these boards matter. */
static void tell_lost(struct serve_job *j, const struct mos_looking *l) {
    for (size_t i = 0; i < j->boards.count; i++) {
        const struct serve_board *b = mos_vec_pointer(&j->boards, i);
        if (b->has_ethernet && memcmp(b->ethernet, l->ethernet, sizeof l->ethernet) == 0)
            serve_note(j, true,
                       mos_printf(j->scratch,
                                  "%s (%s) looks for %s, which nobody here has: set its server "
                                  "(or gateway) to %s",
                                  b->selector, mos_ipv4_text(j->scratch, l->from),
                                  mos_ipv4_text(j->scratch, l->wanted),
                                  mos_ipv4_text(j->scratch, j->own)));
    }
}

static void tell_unasked(struct serve_job *j, int64_t now) {
    if (j->told_unasked || j->was_asked || j->overhear.came || !j->carrier || j->waits ||
        now - j->opened_at < UNASKED_SECONDS * SECOND)
        return;
    j->told_unasked = true;
    serve_note(
        j, true,
        mos_printf(j->scratch,
                   "Nobody asked for anything in %d s: does the board boot from the "
                   "network, and is its cable at %s?%s",
                   (int)UNASKED_SECONDS, j->overheard_at,
                   j->overhears
                       ? ""
                       : " (A firewall is not noticed: that takes raw packets, as root has them)"));
}

void serve_tell_obstacles(struct serve_job *j) {
    const struct mos_asking *a;
    const struct mos_looking *l;
    int64_t now = serve_now(j);
    tell_sends_badly(j);
    while (j->overhears && (a = mos_overhear_dropped(&j->overhear, now)))
        tell_dropped(j, a);
    while (j->overhears && (l = mos_overhear_lost(&j->overhear, now)))
        tell_lost(j, l);
    tell_unasked(j, now);
}
