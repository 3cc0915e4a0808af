#include "cli/cli.h"

#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <unistd.h>

static void show(void *self, mosaicum *m) {
    const struct cli *cli = self;
    progress_clear();
    print_findings(cli, m, to_out);
    if (!cli->quiet || !cli->yes) {
        print_tables(cli, m, to_out);
        fputc('\n', to_out);
    }
    fflush(to_out);
}

static bool same(const char *token, const char *typed) {
    size_t n = strcspn(typed, "\r\n");
    return n == strlen(token) && strncasecmp(token, typed, n) == 0;
}

static bool ask(void *self, const char *device, const char *token) {
    const struct cli *cli = self;
    char typed[64];
    fprintf(to_out, "Type %s%s%s to lose what is on %s, anything else to leave it: ",
            style(cli, STYLE_STRONG), token, style(cli, STYLE_END), one_line(device));
    fflush(to_out);
    return fgets(typed, sizeof typed, stdin) && same(token, typed);
}

int write_devices(struct cli *cli, mosaicum *m, const char *what, const char **devices,
                  size_t count) {
    bool can_ask = !cli->json && isatty(0) && isatty(1);
    struct mosaicum_write request = {
        .what = what,
        .devices = devices,
        .device_count = count,
        .yes = cli->yes,
        .also = cli->also,
        .regions = cli->regions,
        .board = cli->board,
        .unit = cli->unit,
        .out = cli->out,
        .changed = cli->changed,
        .grow = cli->grow,
        .all_regions = cli->all_regions,
        .unmount = cli->unmount,
        .only_show = cli->only_show,
        .show = cli->json ? NULL : show,
        .ask = can_ask ? ask : NULL,
        .ask_self = cli,
    };
    int status = print_result(cli, m, what ? "write" : "devices", mosaicum_write(m, &request));
    if (!cli->quiet || status)
        print_tables(cli, m, to_out);
    return status;
}

static int run(struct cli *cli) {
    if (!cli->workspace)
        cli->workspace = cli_find_workspace(); /* for the record; there need not be one */
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status = write_devices(cli, m, cli->arguments[0], cli->arguments + 1,
                               (size_t)cli->argument_count - 1);
    mosaicum_free(m);
    return status;
}

const struct command command_write = {
    .name = "write",
    .usage = "IMAGE|SELECTOR DEVICE…",
    .about = "an image onto cards or other storage, safely, and read back",
    .details =
        "Shows first what will be lost, and asks for the device's token. What a ROM starts and the "
        "table come last, so that a half-written medium never starts; everything is read back past "
        "the caches. Interrupted, the same command goes on. Exit status 4 when a device may not be "
        "written, 3 when one failed, 1 when one gives back other bytes.",
    .examples = "mosaicum write curlew /dev/sdb\n"
                "mosaicum write out/curlew/card.img /dev/sdb --yes QPLX --unit jetty-7\n"
                "mosaicum write curlew /dev/sdb --changed\n"
                "mosaicum write curlew /dev/sdb /dev/sdc /dev/sdd\n",
    .least = 2,
    .most = -1,
    .run = run,
};
