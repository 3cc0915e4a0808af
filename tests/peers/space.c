/* A network of the test's own: a namespace of the kernel, where nobody else hears what is said. */
#include "peers.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

static char space[64];

bool space_start(const char *proof, const char *address) {
    snprintf(space, sizeof space, "mosaicum-%d", (int)getpid());
    struct outcome o = run_shell(
        "ip netns add %s && ip netns exec %s sh -c 'ip link set lo up && ip tuntap add t0 "
        "mode tap && ip addr add %s dev t0 && ip link set t0 up'",
        space, space, address);
    bool ok = o.status == 0;
    if (!ok)
        proved(proof, "NOT DONE: no network of our own to be had: %.*s", (int)strcspn(o.err, "\n"),
               o.err);
    outcome_free(&o);
    if (!ok) {
        o = run_shell("ip netns del %s 2>/dev/null", space);
        outcome_free(&o);
    }
    return ok;
}

const char *space_name(void) {
    return space;
}

void space_end(void) {
    CU_ASSERT(runs(0, "ip netns del %s", space));
}
