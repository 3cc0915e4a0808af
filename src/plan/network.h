/* Network settings as text, for who writes them and who checks them. */
#ifndef MOS_PLAN_NETWORK_H
#define MOS_PLAN_NETWORK_H

#include "model/model.h"

/* Where a root keeps its time zones. */
#define MOS_ZONES "usr/share/zoneinfo"

/* Four numbers with dots; returns what follows.  NULL: it is none. */
const char *mos_read_ipv4(const char *text, uint32_t *address);
/* … with /PREFIX, 1 to 32, and nothing behind it. */
bool mos_read_ipv4_prefix(const char *text, uint32_t *address, unsigned *prefix);
/* Is its address asked from a server? */
bool mos_asks_server(const struct mos_network_port *port);

#endif
