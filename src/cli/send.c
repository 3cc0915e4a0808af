#include "cli/cli.h"

#include <string.h>

/* Files may lie anywhere: a port is a device, or on another computer. */
static bool is_port(const char *word) {
    return strncmp(word, "/dev/", 5) == 0 || strncmp(word, "tcp:", 4) == 0;
}

static int run(struct cli *cli) {
    size_t count = (size_t)cli->argument_count;
    const char *last = count ? cli->arguments[count - 1] : NULL;
    struct mosaicum_send request = {.files = cli->arguments,
                                    .output = cli->output,
                                    .port = last && is_port(last) ? last : NULL,
                                    .bench = cli_bench_file(cli),
                                    .unit = cli->unit,
                                    .kind = cli->by,
                                    .address = cli->to_address,
                                    .speed = cli->speed,
                                    .self = cli,
                                    .note = cli->json || cli->quiet ? NULL : beside_note};
    request.count = count - (request.port != NULL);
    if (!request.count == !request.output) {
        fprintf(to_err, "mosaicum: name files to send, or with -o where to put what comes\n");
        return MOSAICUM_USAGE;
    }
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    cli_stops_waiting();
    enum mosaicum_status came_to = mosaicum_send(m, &request);
    progress_clear();
    int status = print_result(cli, m, "send", came_to);
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_send = {
    .name = "send",
    .usage = "FILE… [PORT]",
    .about = "files to a board over its serial line, by YMODEM or XMODEM; -o takes what comes",
    .details =
        "A loader at its prompt is told to receive (at --to, or where it is used to); whoever "
        "calls for a file already is served at once. Blocks that do not arrive are sent "
        "again, shorter ones where long ones fail. With -o it is the other way round: "
        "what the board sends goes into that file, or into that folder under its name.",
    .examples = "mosaicum send pieces/Image /dev/ttyUSB0\n"
                "mosaicum send loader.bin /dev/ttyUSB0 --by xmodem --to 0x40200000\n"
                "mosaicum send -o taken/ /dev/ttyUSB0\n",
    .least = 0,
    .most = -1,
    .run = run,
};
