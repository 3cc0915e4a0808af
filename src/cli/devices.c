#include "cli/cli.h"

#include <signal.h>
#include <string.h>

/* ---- what comes and goes ---- */

static void interrupted(int number) {
    (void)number; /* it ends the pause, and so the waiting */
}

static bool told(void *self, bool here, const struct mosaicum_cell *cells) {
    const struct cli *cli = self;
    enum { PATH, VERDICT, TOKEN, SIZE, WHAT, HOLDS };
    fprintf(to_out, "%s%-8s%s %s%s%s  %s, %s\n", style(cli, here ? STYLE_GOOD : STYLE_WARNING),
            here ? "appeared" : "gone", style(cli, STYLE_END), style(cli, STYLE_STRONG),
            one_line(cells[PATH].text), style(cli, STYLE_END), one_line(cells[WHAT].text),
            one_line(cells[SIZE].text));
    if (here)
        fprintf(to_out, "         holds %s\n         may be written: %s%s%s\n",
                one_line(cells[HOLDS].text), one_line(cells[VERDICT].text),
                *cells[TOKEN].text ? "; token " : "", one_line(cells[TOKEN].text));
    return fflush(to_out) == 0;
}

static int wait(struct cli *cli, mosaicum *m) {
    struct sigaction action = {.sa_handler = interrupted};
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    if (!cli->quiet)
        fprintf(to_err, "Plug the medium in now; interrupt ends this.\n");
    int status = mosaicum_devices_wait(m, told, cli);
    return print_result(cli, m, "devices", status);
}

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status;
    if (cli->true_size != (cli->argument_count == 1)) {
        fprintf(to_err, "mosaicum: %s\n",
                cli->true_size ? "--true-size needs one device"
                               : "devices takes a device only with --true-size");
        status = MOSAICUM_USAGE;
    } else if (cli->true_size) {
        status = write_devices(cli, m, NULL, cli->arguments, 1);
    } else if (cli->wait && cli->json) {
        fprintf(to_err, "mosaicum: --wait tells one thing after the other, which --json cannot\n");
        status = MOSAICUM_USAGE;
    } else if (cli->wait) {
        status = wait(cli, m);
    } else {
        status = print_result(cli, m, "devices", mosaicum_devices(m));
        print_report(cli, m, to_out);
        for (size_t i = 0; i < mosaicum_not_proved_count(m) && !cli->json && !cli->quiet; i++)
            fprintf(to_out, "\n%snot known%s  %s\n", style(cli, STYLE_WARNING),
                    style(cli, STYLE_END), one_line(mosaicum_not_proved_at(m, i)));
    }
    mosaicum_free(m);
    return status;
}

const struct command command_devices = {
    .name = "devices",
    .usage = "[DEVICE]",
    .about = "this computer's storage devices, what is on them, and which may be written",
    .details = "The token stands for the medium that is in a device now; whoever types it consents "
               "to lose what is on it. Run with sudo it knows all programs and reads all devices. "
               "--true-size DEVICE finds out whether a card is as large as it says; what is on it "
               "is lost.",
    .examples = "mosaicum devices\n"
                "mosaicum devices --wait\n"
                "mosaicum devices --true-size /dev/sdb\n",
    .least = 0,
    .most = 1,
    .run = run,
};
