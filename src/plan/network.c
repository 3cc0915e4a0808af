/* The network of the system: plain files that its programs read. */
#include "plan/network.h"
#include "plan/system_internal.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

const char *mos_read_ipv4(const char *text, uint32_t *address) {
    *address = 0;
    for (int i = 0; i < 4; i++) {
        if (i && *text++ != '.')
            return NULL;
        size_t n = strspn(text, "0123456789");
        unsigned long part = n && n <= 3 ? strtoul(text, NULL, 10) : 256;
        if (part > 255 || (n > 1 && *text == '0'))
            return NULL;
        *address = *address << 8 | (uint32_t)part;
        text += n;
    }
    return text;
}

bool mos_read_ipv4_prefix(const char *text, uint32_t *address, unsigned *prefix) {
    const char *end = mos_read_ipv4(text, address);
    if (!end || *end != '/' || strspn(end + 1, "0123456789") != strlen(end + 1) ||
        strlen(end + 1) > 2 || !end[1])
        return false;
    *prefix = (unsigned)strtoul(end + 1, NULL, 10);
    return *prefix >= 1 && *prefix <= 32;
}

bool mos_asks_server(const struct mos_network_port *p) {
    return mos_has(p->address) && strcmp(p->address->text, "server") == 0;
}

static const char *ipv4_text(struct mos_arena *arena, uint32_t a) {
    return mos_printf(arena, "%u.%u.%u.%u", a >> 24, a >> 16 & 255, a >> 8 & 255, a & 255);
}

static const char *wireless_file(struct system_writer *w, const struct mos_network_port *p) {
    return mos_printf(w->arena, "etc/wpa_supplicant/wpa_supplicant-%s.conf", p->r.name);
}

static void put_interface(struct system_writer *w, struct mos_buf *b,
                          const struct mos_network_port *p) {
    uint32_t address;
    unsigned prefix;
    const char *name = p->r.name;
    mos_buf_printf(b, "\nauto %s\niface %s inet %s\n", name, name,
                   mos_asks_server(p) ? "dhcp" : "static");
    if (!mos_asks_server(p) && mos_read_ipv4_prefix(p->address->text, &address, &prefix))
        mos_buf_printf(b, "    address %s\n    netmask %s\n", ipv4_text(w->arena, address),
                       ipv4_text(w->arena, UINT32_MAX << (32 - prefix)));
    if (mos_has(p->gateway))
        mos_buf_printf(b, "    gateway %s\n", p->gateway->text);
    if (p->wireless)
        mos_buf_printf(b,
                       "    pre-up wpa_supplicant -B -i %s -c /%s\n"
                       "    post-down killall wpa_supplicant\n",
                       name, wireless_file(w, p));
}

static bool put_interfaces(struct system_writer *w, const struct mos_system_network *n) {
    struct mos_buf b = {.arena = w->arena}, servers = {.arena = w->arena};
    mos_buf_text(&b, "# Made by Mosaicum.\nauto lo\niface lo inet loopback\n");
    for (size_t i = 0; i < n->ports.count; i++) {
        const struct mos_network_port *p = n->ports.items[i];
        if (!mos_has(p->address))
            continue;
        put_interface(w, &b, p);
        for (size_t k = 0; k < p->name_servers.count; k++)
            if (mos_has(p->name_servers.items[k]))
                mos_buf_printf(&servers, "nameserver %s\n", p->name_servers.items[k]->text);
    }
    if (mos_starter_of(n->by) == MOS_STARTER_INITTAB) {
        const char *action = system_has_runlevels(w) ? "bootwait" : "wait";
        /* what an earlier start left says that ports are up, where /run is on a disk */
        system_add_action(w, "nets", "", action, "/bin/rm -f /run/ifstate /var/run/ifstate");
        system_add_action(w, "netw", "", action, "/sbin/ifup -a");
    }
    return system_put(w, "etc/network/interfaces", 0644, 0, mos_buf_string(&b)) &&
           (!servers.length || system_put(w, "etc/resolv.conf", 0644, 0, mos_buf_string(&servers)));
}

static bool put_networkd(struct system_writer *w, const struct mos_system_network *n) {
    bool ok = true;
    for (size_t i = 0; i < n->ports.count && ok; i++) {
        const struct mos_network_port *p = n->ports.items[i];
        struct mos_buf b = {.arena = w->arena};
        if (!mos_has(p->address))
            continue;
        mos_buf_printf(&b, "# Made by Mosaicum.\n[Match]\nName=%s\n\n[Network]\n", p->r.name);
        if (mos_asks_server(p))
            mos_buf_text(&b, "DHCP=yes\n");
        else
            mos_buf_printf(&b, "Address=%s\n", p->address->text);
        if (mos_has(p->gateway))
            mos_buf_printf(&b, "Gateway=%s\n", p->gateway->text);
        for (size_t k = 0; k < p->name_servers.count; k++)
            if (mos_has(p->name_servers.items[k]))
                mos_buf_printf(&b, "DNS=%s\n", p->name_servers.items[k]->text);
        ok = system_put(w, mos_printf(w->arena, "etc/systemd/network/20-%s.network", p->r.name),
                        0644, 0, mos_buf_string(&b));
        if (ok && p->wireless)
            ok = system_put_link(
                w,
                mos_printf(w->arena,
                           "etc/systemd/system/multi-user.target.wants/wpa_supplicant@%s.service",
                           p->r.name),
                "/lib/systemd/system/wpa_supplicant@.service");
    }
    return ok && (mos_starter_of(n->by) != MOS_STARTER_SYSTEMD ||
                  system_put_link(
                      w, "etc/systemd/system/multi-user.target.wants/systemd-networkd.service",
                      "/lib/systemd/system/systemd-networkd.service"));
}

/* Its passphrase stands in the image, in a file that only root reads. */
static bool put_wireless(struct system_writer *w, const struct mos_network_port *p) {
    const struct mos_wireless *x = p->wireless;
    struct mos_buf b = {.arena = w->arena};
    if (!mos_has(x->network))
        return true;
    mos_buf_text(&b, "# Made by Mosaicum.\nctrl_interface=/run/wpa_supplicant\n");
    if (mos_has(x->country))
        mos_buf_printf(&b, "country=%s\n", x->country->text);
    mos_buf_text(&b, "network={\n    ssid=");
    for (const char *c = x->network->text; *c; c++) /* in hexadecimal: any name fits */
        mos_buf_printf(&b, "%02x", (unsigned char)*c);
    mos_buf_char(&b, '\n');
    if (mos_has(x->secret_file)) {
        const char *secret = system_first_line(w, x->secret_file,
                                               mos_printf(w->arena, "passphrase of %s", p->r.name));
        size_t n = secret ? strlen(secret) : 0;
        bool raw = n == 64 && strspn(secret, "0123456789abcdefABCDEF") == n;
        mos_buf_printf(&b, raw ? "    psk=%s\n" : "    psk=\"%s\"\n", secret ? secret : "");
    } else {
        mos_buf_text(&b, "    key_mgmt=NONE\n");
    }
    mos_buf_text(&b, "}\n");
    return system_put(w, wireless_file(w, p), 0600, 0, mos_buf_string(&b));
}

bool system_put_network(struct system_writer *w, const struct mos_system *s) {
    const struct mos_system_network *n = s->network;
    if (!n || n->r.broken || !mos_has(n->form))
        return true;
    for (size_t i = 0; i < n->ports.count; i++) {
        const struct mos_network_port *p = n->ports.items[i];
        if (p->wireless && !put_wireless(w, p))
            return false;
    }
    return mos_network_form_of(n->form) == MOS_NETWORK_NETWORKD ? put_networkd(w, n)
                                                                : put_interfaces(w, n);
}

bool system_put_time_zone(struct system_writer *w, const struct mos_system *s) {
    if (!mos_has(s->time_zone))
        return true;
    const char *zone = s->time_zone->text;
    return system_put_link(w, "etc/localtime", mos_printf(w->arena, "/" MOS_ZONES "/%s", zone)) &&
           system_put(w, "etc/timezone", 0644, 0, mos_printf(w->arena, "%s\n", zone));
}
