/* What commands for boards on one's own table share. */
#include "cli/cli.h"
#include "platform/platform.h"

#include <signal.h>
#include <stdlib.h>

/* The first signal ends the wait, and what came so far is told. */
static void interrupted(int signal) {
    (void)signal;
    mos_platform_stop_waiting();
}

void cli_stops_waiting(void) {
    struct sigaction action = {.sa_handler = interrupted, .sa_flags = (int)SA_RESETHAND};
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
}

/* The file about one's own table: named, or in the folder for settings. */
const char *cli_bench_file(const struct cli *cli) {
    static char path[4096];
    const char *settings = getenv("XDG_CONFIG_HOME"), *home = getenv("HOME");
    bool own = settings && *settings == '/';
    if (cli->bench)
        return cli->bench;
    if (!own && (!home || *home != '/'))
        return NULL;
    int n = snprintf(path, sizeof path, "%s%s/mosaicum/bench.yaml", own ? settings : home,
                     own ? "" : "/.config");
    return n > 0 && (size_t)n < sizeof path ? path : NULL;
}
