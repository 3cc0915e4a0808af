#include "cli/cli.h"
#include "platform/platform.h"

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

static FILE *answers; /* where they are typed: standard input may be the image */

static bool ask(void *self, const char *device, const char *token) {
    const struct cli *cli = self;
    char typed[64];
    fprintf(to_out, "Type %s%s%s to lose what is on %s, anything else to leave it: ",
            style(cli, STYLE_STRONG), token, style(cli, STYLE_END), one_line(device));
    fflush(to_out);
    return fgets(typed, sizeof typed, answers) && same(token, typed);
}

int write_devices(struct cli *cli, mosaicum *m, const char *what, const char **devices,
                  size_t count) {
    bool piped = what && strcmp(what, "-") == 0;
    bool may_ask = !cli->json && isatty(1);
    answers = !may_ask ? NULL : piped ? mos_platform_answers() : isatty(0) ? stdin : NULL;
    struct mosaicum_write request = {
        .what = what,
        .devices = devices,
        .device_count = count,
        .yes = cli->yes,
        .also = cli->also,
        .regions = cli->regions,
        .board = cli->board,
        .unit = cli->unit,
        .ledger = cli->ledger,
        .out = cli->out,
        .changed = cli->changed,
        .grow = cli->grow,
        .all_regions = cli->all_regions,
        .unmount = cli->unmount,
        .only_show = cli->only_show,
        .show = cli->json ? NULL : show,
        .ask = answers ? ask : NULL,
        .ask_self = cli,
    };
    int status = print_result(cli, m, what ? "write" : "devices", mosaicum_write(m, &request));
    if (piped && answers)
        fclose(answers);
    if (!cli->quiet || status)
        print_tables(cli, m, to_out);
    return status;
}

/* ---- through a board ---- */

static bool told; /* a step, or several */

/* The next step: what somebody has to do waits for them. */
static bool step(void *self, const char *name, const char *text, bool asks) {
    const struct cli *cli = self;
    char typed[64];
    progress_clear();
    told = !cli->quiet || asks || told;
    if (!cli->quiet || asks)
        fprintf(to_out, "%s%s%s  %s\n", style(cli, STYLE_STRONG), one_line(name),
                style(cli, STYLE_END), one_line(text));
    if (asks)
        fputs("    Enter when it is done, anything else to stop: ", to_out);
    fflush(to_out);
    return !asks || (fgets(typed, sizeof typed, stdin) && (*typed == '\n' || *typed == '\r'));
}

/* The same where nobody can answer: it is told. */
static bool tell(void *self, const char *name, const char *text, bool asks) {
    return step(self, name, text, false) && !asks;
}

static bool read_count(const char *text, unsigned *out) {
    *out = 0;
    if (text && (!*text || strlen(text) > 4 || strspn(text, "0123456789") != strlen(text)))
        return false;
    *out = text ? (unsigned)strtoul(text, NULL, 10) : 1;
    return *out > 0;
}

static int write_board(struct cli *cli, mosaicum *m) {
    bool can_ask = !cli->json && isatty(0) && isatty(1);
    struct mosaicum_program request = {
        .selector = cli->arguments[0],
        .way = cli->way,
        .serial = cli->serial,
        .address = cli->address,
        .board_address = cli->board_address,
        .yes = cli->yes,
        .unit = cli->unit,
        .out = cli->out,
        .all_regions = cli->all_regions,
        .steps_done = cli->steps_done,
        .only_show = cli->only_show,
        .show = cli->json ? NULL : show,
        .ask = can_ask ? ask : NULL,
        .step = cli->json ? NULL
                : can_ask ? step
                          : tell,
        .self = cli,
    };
    if (!read_count(cli->boards, &request.boards)) {
        fprintf(to_err, "mosaicum: --boards %s: a number from 1 to 9999\n", one_line(cli->boards));
        return MOSAICUM_USAGE;
    }
    cli_stops_waiting();
    enum mosaicum_status came_to = mosaicum_program(m, &request);
    progress_clear();
    if (told)
        fputc('\n', to_out);
    int status = print_result(cli, m, "write", came_to);
    if (!cli->quiet || status)
        print_tables(cli, m, to_out);
    return status;
}

/* Words of one of the two ways to write with the other make no sense. */
static bool fits(const struct cli *cli) {
    const char *wrong = NULL;
    if (cli->argument_count > 1) {
        wrong = cli->way             ? "--way"
                : cli->serial        ? "--serial"
                : cli->address       ? "--address"
                : cli->board_address ? "--board-address"
                : cli->boards        ? "--boards"
                : cli->steps_done    ? "--steps-done"
                                     : NULL;
        if (wrong)
            fprintf(to_err, "mosaicum: %s writes through the board, so that no DEVICE is named\n",
                    wrong);
    } else {
        wrong = cli->changed   ? "--changed"
                : cli->grow    ? "--grow"
                : cli->unmount ? "--unmount"
                : cli->regions ? "--region"
                : cli->also    ? "--also"
                : cli->board   ? "--for"
                : cli->ledger  ? "--ledger"
                               : NULL;
        if (wrong)
            fprintf(to_err, "mosaicum: %s is for a device of this computer: name it behind %s\n",
                    wrong, one_line(cli->arguments[0]));
    }
    return !wrong;
}

static int run(struct cli *cli) {
    bool by_board = cli->argument_count == 1;
    if (!fits(cli))
        return MOSAICUM_USAGE;
    if (by_board && !cli->way && !cli->serial && !cli->only_show) {
        fprintf(to_err,
                "mosaicum: name a DEVICE (mosaicum devices lists them), or with --way how "
                "%s is programmed\n",
                one_line(cli->arguments[0]));
        return MOSAICUM_USAGE;
    }
    if (!cli->workspace)
        cli->workspace = cli_find_workspace(); /* for the record; there need not be one */
    mosaicum *m = cli_open(cli, by_board);
    if (!m)
        return by_board ? MOSAICUM_USAGE : MOSAICUM_SYSTEM;
    int status = by_board ? write_board(cli, m)
                          : write_devices(cli, m, cli->arguments[0], cli->arguments + 1,
                                          (size_t)cli->argument_count - 1);
    mosaicum_free(m);
    return status;
}

const struct command command_write = {
    .name = "write",
    .usage = "IMAGE|SELECTOR DEVICE… | SELECTOR --way NAME",
    .about = "an image onto cards or other storage, safely, and read back",
    .details =
        "Shows first what will be lost, and asks for the device's token. What a ROM starts and the "
        "table come last, so that a half-written medium never starts; everything is read back past "
        "the caches. Interrupted, the same command goes on. With `--way` a board with "
        "soldered storage is written through itself, step by step as its `programming` says. Exit "
        "status 4 when a device may not be "
        "written, 3 when one failed, 1 when one gives back other bytes.",
    .examples = "mosaicum write curlew /dev/sdb\n"
                "mosaicum write out/curlew/card.img /dev/sdb --yes QPLX --unit jetty-7\n"
                "mosaicum write curlew /dev/sdb --changed\n"
                "mosaicum write - /dev/sdb --ledger ledger.json < card.img.zst\n"
                "mosaicum write curlew /dev/sdb /dev/sdc /dev/sdd\n"
                "mosaicum write avocet --way bench --serial /dev/ttyUSB0\n",
    .least = 1,
    .most = -1,
    .run = run,
};
