/* What overlays of ours bring about on a board of others: each mistake is told at our own line and
 * at the place that it clashes with, and what is correct is not. */
#include "support.h"

#include <string.h>

static const char base[] =
    "/dts-v1/;\n"
    "/ {\n"
    "#address-cells = <1>; #size-cells = <1>; interrupt-parent = <&gic>;\n"
    "compatible = \"harbour,jetty\", \"harbour,tern64\";\n"
    "aliases { serial0 = &uart0; };\n"
    "memory@80000000 { device_type = \"memory\"; reg = <0x80000000 0x10000000>; };\n"
    "reserved-memory { #address-cells = <1>; #size-cells = <1>; ranges;\n"
    "  shore: shore@88000000 { reg = <0x88000000 0x100000>; };\n"
    "};\n"
    "web: web { #interrupt-cells = <1>; #address-cells = <0>; interrupt-map-mask = <3>;\n"
    "  interrupt-map = <1 &gic 0 5 1>, <2 &gic 0 40 4>; };\n"
    "clk: clk { #clock-cells = <1>; };\n"
    "slow: slow { #clock-cells = <0>; status = \"disabled\"; };\n"
    "rst: rst { #reset-cells = <1>; };\n"
    "v33: v33 { compatible = \"regulator-fixed\"; regulator-name = \"v33\";\n"
    "  regulator-min-microvolt = <3300000>; regulator-max-microvolt = <3300000>; };\n"
    "v18: v18 { compatible = \"regulator-fixed\"; regulator-name = \"v18\";\n"
    "  regulator-min-microvolt = <1800000>; regulator-max-microvolt = <1800000>;\n"
    "  vin-supply = <&v33>; };\n"
    "vio: vio { regulator-name = \"vio\"; regulator-min-microvolt = <1800000>;\n"
    "  regulator-max-microvolt = <3300000>; };\n"
    "vlamp: vlamp { compatible = \"regulator-fixed\"; regulator-name = \"vlamp\";\n"
    "  regulator-min-microvolt = <5000000>; regulator-max-microvolt = <5000000>;\n"
    "  gpio = <&pins 20 0>; };\n"
    "chip: bus { compatible = \"simple-bus\"; #address-cells = <1>; #size-cells = <1>;\n"
    "ranges = <0 0x40000000 0x100000>;\n"
    "gic: gic@1000 { reg = <0x1000 0x100>; interrupt-controller; #interrupt-cells = <3>; };\n"
    "pins: pinctrl@2000 { compatible = \"harbour,tern64-pins\"; reg = <0x2000 0x100>;\n"
    "  gpio-controller; #gpio-cells = <2>; ngpios = <32>; gpio-ranges = <&pins 0 0 32>;\n"
    "  interrupt-controller; #interrupt-cells = <2>;\n"
    "  uart0_pins: uart0 { pins = \"gpio4\", \"gpio5\"; function = \"uart0\"; };\n"
    "  uart1_pins: uart1 { pins = \"gpio6\", \"gpio7\"; function = \"uart1\"; };\n"
    "  pwm_pins: pwm { pins = \"gpio5\"; function = \"pwm0\"; };\n"
    "  lamp_pins: lamp { pins = \"gpio21\"; function = \"gpio\"; };\n"
    "};\n"
    "uart0: serial@3000 { compatible = \"harbour,tern64-uart\"; reg = <0x3000 0x100>;\n"
    "  interrupts = <0 5 4>; clocks = <&clk 1>; pinctrl-names = \"default\";\n"
    "  pinctrl-0 = <&uart0_pins>; };\n"
    "uart1: serial@4000 { compatible = \"harbour,tern64-uart\"; reg = <0x4000 0x100>;\n"
    "  interrupts = <0 6 4>; clocks = <&clk 2>; pinctrl-names = \"default\";\n"
    "  pinctrl-0 = <&uart1_pins>; status = \"disabled\"; };\n"
    "pwm0: pwm@5000 { compatible = \"harbour,tern64-pwm\"; reg = <0x5000 0x100>;\n"
    "  #pwm-cells = <2>; status = \"disabled\"; };\n"
    "dma: dma@6000 { compatible = \"harbour,tern64-dma\"; reg = <0x6000 0x100>;\n"
    "  #dma-cells = <1>; };\n"
    "i2c0: i2c@7000 { compatible = \"harbour,tern64-i2c\"; reg = <0x7000 0x100>;\n"
    "  #address-cells = <1>; #size-cells = <0>; dmas = <&dma 7>; dma-names = \"rx\";\n"
    "  gauge: gauge@48 { compatible = \"harbour,gauge\"; reg = <0x48>;\n"
    "    interrupt-parent = <&pins>; interrupts = <9 1>; };\n"
    "  mux@70 { compatible = \"harbour,switch\"; reg = <0x70>; #address-cells = <1>;\n"
    "    #size-cells = <0>;\n"
    "    port0: i2c@0 { reg = <0>; #address-cells = <1>; #size-cells = <0>;\n"
    "      vane@50 { compatible = \"harbour,vane\"; reg = <0x50>; }; };\n"
    "    port1: i2c@1 { reg = <1>; #address-cells = <1>; #size-cells = <0>; };\n"
    "  };\n"
    "};\n"
    "i2c1: i2c@8000 { compatible = \"harbour,tern64-i2c\"; reg = <0x8000 0x100>;\n"
    "  #address-cells = <1>; #size-cells = <0>; status = \"disabled\"; };\n"
    "spi0: spi@9000 { compatible = \"harbour,tern64-spi\"; reg = <0x9000 0x100>;\n"
    "  #address-cells = <1>; #size-cells = <0>; num-cs = <2>;\n"
    "  store: store@0 { compatible = \"harbour,w25q64\", \"jedec,spi-nor\"; reg = <0>; };\n"
    "};\n"
    "mmc0: mmc@a000 { compatible = \"harbour,tern64-mmc\"; reg = <0xa000 0x100>;\n"
    "  vqmmc-supply = <&v33>; vmmc-supply = <&v33>; };\n"
    "cam: cam@b000 { compatible = \"harbour,tern64-cam\"; reg = <0xb000 0x100>;\n"
    "  port { eye: endpoint { }; }; };\n"
    "};\n"
    "};\n";

static const struct {
    const char *overlay, *says; /* NULL: it is correct */
    const char *clash;          /* a line of the base that is shown, too; or NULL */
    bool needs_base;            /* a blob cannot say it */
} rows[] = {
    /* correct */
    {"&uart1 { status = \"okay\"; };", NULL, NULL},
    {"&i2c0 { tide@49 { compatible = \"harbour,tide\"; reg = <0x49>; }; };", NULL, NULL},
    {"&i2c1 { status = \"okay\"; gauge@48 { compatible = \"harbour,gauge\"; reg = <0x48>; }; };",
     NULL, NULL},
    {"&port1 { vane@50 { compatible = \"harbour,vane\"; reg = <0x50>; }; };", NULL, NULL},
    {"&spi0 { store@1 { compatible = \"jedec,spi-nor\"; reg = <1>; }; };", NULL, NULL},
    {"&{/} { lamps { compatible = \"gpio-leds\"; pinctrl-names = \"default\";\n"
     "pinctrl-0 = <&lamp_pins>; lamp { gpios = <&pins 21 0>; }; }; };",
     NULL, NULL},
    {"&{/} { v5: v5 { compatible = \"regulator-fixed\"; regulator-name = \"v5\"; gpio = <&pins 20 "
     "0>; }; };",
     NULL, NULL}, /* two regulators may share the line that switches them */
    {"&gauge { reset-gpios = <&pins 25 1>; };\n&uart0 { reset-gpios = <&pins 25 1>; };", NULL,
     NULL},
    {"&uart0 { status = \"disabled\"; };\n&pwm0 { status = \"okay\"; pinctrl-names = "
     "\"default\"; pinctrl-0 = <&pwm_pins>; };",
     NULL, NULL}, /* the pin is free then */
    {"&mmc0 { vqmmc-supply = <&v18>; mmc-hs200-1_8v; };", NULL, NULL},
    {"&mmc0 { vqmmc-supply = <&vio>; sd-uhs-sdr104; };", NULL, NULL},
    {"&{/aliases} { serial1 = &uart1; };", NULL, NULL, true},
    {"&{/aliases} { serial1 = \"/bus/serial@4000\"; };", NULL, NULL},
    {"&{/reserved-memory} { log@88100000 { reg = <0x88100000 0x1000>; }; };", NULL, NULL},
    {"&store { partitions { compatible = \"fixed-partitions\"; #address-cells = <1>; #size-cells "
     "= <1>;\npartition@0 { reg = <0 0x10000>; }; partition@10000 { reg = <0x10000 0x7f0000>; }; "
     "}; };",
     NULL, NULL},
    {"&eye { remote-endpoint = <&lens>; };\n&i2c0 { lens@10 { compatible = \"harbour,lens\"; reg "
     "= <0x10>;\nport { lens: endpoint { remote-endpoint = <&eye>; }; }; }; };",
     NULL, NULL},
    {"&gauge { interrupts = <10 2>; };", NULL, NULL},
    {"&i2c0 { tide@49 { compatible = \"harbour,tide\"; reg = <0x49>; interrupt-parent = "
     "<&pins>;\ninterrupts = <9 1>; }; };",
     NULL, NULL}, /* an interrupt may be shared in one form */
    {"&chip { mailbox@c000 { compatible = \"harbour,mailbox\"; reg = <0xc000 0x100>; }; };", NULL,
     NULL},
    {"&i2c0 { tide@7f { compatible = \"harbour,tide\"; reg = <0x7f>; }; };", NULL, NULL},
    {"&gauge { pinctrl-names = \"sleep\"; pinctrl-0 = <&pwm_pins>; };", NULL, NULL},
    {"&{/} { tide { compatible = \"harbour,tide\"; interrupt-parent = <&web>; interrupts = <2>; "
     "}; };",
     NULL, NULL},
    /* what a kernel refuses of overlays */
    {"&i2c0 { tide@49 { compatible = \"harbour,tide\"; reg = <0x49>; }; };\n&{/bus/i2c@7000} { "
     "tide@49 { other; }; };",
     "adds /bus/i2c@7000/tide@49 in two places", NULL},
    {"&gauge { level = <1>; };\n&{/bus/i2c@7000/gauge@48} { level = <2>; };",
     "sets level of /bus/i2c@7000/gauge@48 twice", NULL},
    {"&i2c0 { clk: tide@49 { compatible = \"harbour,tide\"; reg = <0x49>; }; };",
     "gives the label clk to /bus/i2c@7000/tide@49; /clk has it", NULL},
    {"&{/bus} { mine: dma@6000 { }; };", "gives /bus/dma@6000 another phandle, by its label mine",
     NULL},
    {"&{/} { tide { compatible = \"harbour,tide\"; interrupt-parent = <&web>; interrupts = <1>; "
     "}; };",
     "want interrupt 0 5 of /bus/gic@1000: high level and rising edge", "interrupts = <0 5 4>"},
    /* lines and pins */
    {"&{/} { lamps { compatible = \"gpio-leds\"; lamp { gpios = <&pins 20 0>; }; }; };",
     "/vlamp and /lamps/lamp both take line 20 of /bus/pinctrl@2000", "gpio = <&pins 20 0>"},
    {"&gauge { reset-gpios = <&pins 25 1>; };\n&uart0 { rts-gpios = <&pins 25 1>; };",
     "both take line 25", NULL},
    {"&{/} { keys { compatible = \"gpio-keys\"; up { gpios = <&pins 9 0>; }; }; };",
     "both take line 9 of /bus/pinctrl@2000", "interrupts = <9 1>"},
    {"&pwm0 { status = \"okay\"; pinctrl-names = \"default\"; pinctrl-0 = <&pwm_pins>; };",
     "/bus/serial@3000 and /bus/pwm@5000 both take pin gpio5", "pinctrl-0 = <&uart0_pins>"},
    {"&gauge { reset-gpios = <&pins 5 1>; };",
     "takes line 5 of /bus/pinctrl@2000, whose pin /bus/serial@3000 makes uart0",
     "pinctrl-0 = <&uart0_pins>"},
    {"&gauge { reset-gpios = <&pins 32 1>; };", "is line 32 of /bus/pinctrl@2000, which has 32",
     "ngpios = <32>"},
    {"&pins { hold { gpio-hog; gpios = <20 0>; output-high; }; };", "both take line 20", NULL},
    {"&pwm0 { status = \"okay\"; };\n&{/} { fan { compatible = \"pwm-fan\"; pwms = <&pwm0 1 "
     "100>; };\nhorn { compatible = \"pwm-beeper\"; pwms = <&pwm0 1 200>; }; };",
     "both take PWM 1 of /bus/pwm@5000", NULL},
    {"&uart0 { dmas = <&dma 7>; dma-names = \"rx\"; };", "both take DMA 7 of /bus/dma@6000",
     "dmas = <&dma 7>"},
    /* interrupts */
    {"&i2c0 { tide@49 { compatible = \"harbour,tide\"; reg = <0x49>; interrupt-parent = "
     "<&pins>;\ninterrupts = <9 2>; }; };",
     "want interrupt 9 of /bus/pinctrl@2000: rising edge and falling edge", "interrupts = <9 1>"},
    {"&uart1 { status = \"okay\"; interrupts = <0 5 1>; };",
     "want interrupt 0 5 of /bus/gic@1000: high level and rising edge", "interrupts = <0 5 4>"},
    {"&uart0 { interrupts = <0 5>; };", "interrupts of /bus/serial@3000 has 2 cells",
     "#interrupt-cells = <3>"},
    {"&gauge { interrupt-parent = <&dma>; };", "is /bus/dma@6000, which takes no interrupts", NULL},
    /* addresses */
    {"&i2c0 { tide@48 { compatible = \"harbour,tide\"; reg = <0x48>; }; };",
     "gauge@48 and tide@48 are both at 0x48 of /bus/i2c@7000", "gauge@48"},
    {"&port1 { tide@48 { compatible = \"harbour,tide\"; reg = <0x48>; }; };",
     "are both at 0x48: /bus/i2c@7000/mux@70/i2c@1 leads to the bus", "gauge@48"},
    {"&i2c0 { tide@50 { compatible = \"harbour,tide\"; reg = <0x50>; }; };", "are both at 0x50",
     "vane@50"},
    {"&i2c0 { tide@49 { compatible = \"harbour,tide\"; reg = <0x4a>; }; };",
     "is at 0x00000049 by its name, and at 0x0000004a by its reg", NULL},
    {"&i2c0 { tide@90 { compatible = \"harbour,tide\"; reg = <0x90>; }; };",
     "is at 0x90 of /bus/i2c@7000, whose addresses end at 0x7f", NULL},
    {"&i2c0 { tide@49 { compatible = \"harbour,tide\"; reg = <0x49 1>; }; };", NULL,
     NULL}, /* two addresses of one chip */
    {"&chip { tide@c000 { compatible = \"harbour,tide\"; reg = <0xc000>; }; };",
     "reg of /bus/tide@c000 has 1 cell", NULL},
    {"&chip { tide@3000 { compatible = \"harbour,tide\"; reg = <0x3000 0x10>; }; };",
     "both take the registers at 0x40003000", "reg = <0x3000 0x100>"},
    {"&spi0 { store@2 { compatible = \"jedec,spi-nor\"; reg = <2>; }; };",
     "is at chip select 2 of /bus/spi@9000, which has 2", "num-cs = <2>"},
    {"&spi0 { other@0 { compatible = \"harbour,other\"; reg = <0>; }; };", "are both at 0x0",
     "store@0"},
    /* what is off, or not there */
    {"&i2c1 { gauge@48 { compatible = \"harbour,gauge\"; reg = <0x48>; }; };",
     "/bus/i2c@8000/gauge@48 lies below /bus/i2c@8000, which is switched off",
     "status = \"disabled\""},
    {"&uart1 { status = \"enabled\"; };",
     "/bus/serial@4000 is switched off: its status is \"enabled\"", NULL},
    {"&pins { status = \"disabled\"; };",
     "interrupts of /bus/i2c@7000/gauge@48 go to /bus/pinctrl@2000, and that is switched off",
     "interrupts = <9 1>"},
    {"&i2c0 { clock-frequency = <9000000>; };",
     "/bus/i2c@7000 is to run at 9 MHz, and I²C has no such mode", NULL},
    {"&i2c0 { clock-frequency = <400000>; };", NULL, NULL},
    {"&{/} { mac { phy-mode = \"rmii\"; fixed-link { speed = <1000>; }; }; };",
     "speed of /mac/fixed-link is 1000 Mbit/s, and rmii carries at most 100", NULL},
    {"&{/} { mac { phy-mode = \"rgmii-id\"; max-speed = <1000>; }; };", NULL, NULL},
    {"&{/} { mmc-x { bus-width = <4>; mmc-hs400-1_8v; }; };",
     "/mmc-x has the mode mmc-hs400-1_8v, which needs 8 lines, and has 4", NULL},
    {"&{/} { mmc-x { bus-width = <4>; sd-uhs-sdr50; mmc-hs200-1_8v; }; };", NULL, NULL},
    {"&{/} { mmc-x { bus-width = <2>; }; };", "/mmc-x has a bus of 2 lines", NULL},
    {"&{/} { port-x { compatible = \"ns16550a\"; clock-frequency = <1843200>; gnss { "
     "current-speed = <230400>; }; }; };",
     "/port-x/gnss is to run at 230400 baud, and a clock of 1843200 Hz gives at most 115200", NULL},
    {"&{/} { port-x { compatible = \"ns16550a\"; clock-frequency = <1843200>; current-speed = "
     "<115200>; }; };",
     NULL, NULL},
    {"&{/} { spi-x { #address-cells = <1>; #size-cells = <0>; spi-max-frequency = <10000000>; "
     "part@0 { reg = <0>; spi-max-frequency = <20000000>; }; }; };",
     "/spi-x/part@0 is to run at 20 MHz, and its bus does at most 10 MHz", NULL},
    {"&{/} { spi-x { #address-cells = <1>; #size-cells = <0>; spi-max-frequency = <10000000>; "
     "part@0 { reg = <0>; spi-max-frequency = <10000000>; }; }; };",
     NULL, NULL},
    {"&clk { status = \"disabled\"; };", "is /clk, and that is switched off", "clocks = <&clk 1>"},
    {"&uart0 { clocks = <&slow>; };", "is /slow, and that is switched off",
     "slow { #clock-cells = <0>; status"},
    {"&{/aliases} { serial1 = \"/bus/serial@c000\"; };", "there is no such node", NULL},
    {"&eye { remote-endpoint = <&lens>; };\n&i2c0 { lens@10 { compatible = \"harbour,lens\"; reg "
     "= <0x10>;\nport { lens: endpoint { }; }; }; };",
     "which does not lead back", NULL},
    {"&eye { remote-endpoint = <&lens>; };\n&i2c1 { lens@10 { compatible = \"harbour,lens\"; reg "
     "= <0x10>; status = \"okay\";\nport { lens: endpoint { remote-endpoint = <&eye>; }; }; }; };",
     "is switched off", NULL},
    {"&uart0 { clocks = <&rst 1>; };", "is &rst, which has no #clock-cells", "rst { #reset-cells"},
    {"&uart0 { clocks = <&clk>; };", "has 0 cells behind /clk, which takes 1",
     "#clock-cells = <1>"},
    {"&uart0 { clocks = <&clk 1 2>; };", "begins with the number 0x2, not with a label", NULL},
    {"&uart0 { clock-names = \"bus\", \"core\"; };", "clock-names of /bus/serial@3000 has 2 names",
     "clocks = <&clk 1>"},
    {"&uart0 { pinctrl-names = \"default\", \"sleep\"; };", "has 2 names; there is 1 state",
     "pinctrl-0 = <&uart0_pins>"},
    {"&uart0 { reg-names = \"all\", \"more\"; };", "reg-names of /bus/serial@3000 has 2 names",
     NULL},
    /* voltages */
    {"&mmc0 { mmc-hs200-1_8v; };", "has mmc-hs200-1_8v, which needs 1.8 V; /v33 gives 3.3 V",
     "regulator-max-microvolt = <3300000>"},
    {"&vio { regulator-min-microvolt = <3400000>; };", "gives at least 3.4 V and at most 3.3 V",
     NULL},
    {"&v18 { regulator-max-microvolt = <1900000>; };", "is a fixed regulator, and gives 1.8 V to",
     NULL},
    {"&v33 { vin-supply = <&v18>; };", "is fed by /v18, which it feeds itself", "v18 {"},
    {"&vio { vin-supply = <&vio>; };", "is fed by itself", NULL},
    /* memory */
    {"&{/reserved-memory} { log@880ff000 { reg = <0x880ff000 0x2000>; }; };",
     "both reserve the memory at 0x880ff000", "reg = <0x88000000 0x100000>"},
    {"&{/reserved-memory} { log@a0000000 { reg = <0xa0000000 0x2000>; }; };",
     "where the board has no RAM", NULL},
    {"&store { partitions { compatible = \"fixed-partitions\"; #address-cells = <1>; #size-cells "
     "= <1>;\npartition@0 { reg = <0 0x800001>; }; }; };",
     "ends at 0x800001; store@0 has 8 MiB", "harbour,w25q64"},
    {"&store { partitions { compatible = \"fixed-partitions\"; #address-cells = <1>; #size-cells "
     "= <1>;\npartition@0 { reg = <0 0x10000>; }; partition@8000 { reg = <0x8000 0x10000>; }; }; "
     "};",
     "partition@0 and partition@8000 overlap", NULL},
    /* sizes that are in names, and names that only look so */
    {"&store { compatible = \"harbour,mx25l12835f\"; partitions { compatible = "
     "\"fixed-partitions\"; #address-cells = <1>; #size-cells = <1>;\n"
     "partition@0 { reg = <0 0x1000000>; }; }; };",
     NULL, NULL},
    {"&store { compatible = \"harbour,mx25l12835f\"; partitions { compatible = "
     "\"fixed-partitions\"; #address-cells = <1>; #size-cells = <1>;\n"
     "partition@0 { reg = <0 0x1000001>; }; }; };",
     "store@0 has 16 MiB", NULL},
    {"&store { compatible = \"harbour,mx25l6405d\"; partitions { compatible = "
     "\"fixed-partitions\"; #address-cells = <1>; #size-cells = <1>;\n"
     "partition@0 { reg = <0 0x800001>; }; }; };",
     "store@0 has 8 MiB", NULL},
    {"&store { compatible = \"harbour,mt25qu01g\"; partitions { compatible = \"fixed-partitions\"; "
     "#address-cells = <1>; #size-cells = <1>;\n"
     "partition@0 { reg = <0 0x8000000>; }; }; };",
     NULL, NULL},
    {"&store { compatible = \"harbour,mt25qu01g\"; partitions { compatible = \"fixed-partitions\"; "
     "#address-cells = <1>; #size-cells = <1>;\n"
     "partition@0 { reg = <0 0x8000001>; }; }; };",
     "store@0 has 128 MiB", NULL},
    {"&store { compatible = \"harbour,w25q01\"; partitions { compatible = \"fixed-partitions\"; "
     "#address-cells = <1>; #size-cells = <1>;\n"
     "partition@0 { reg = <0 0x8000000>; }; }; };",
     NULL, NULL},
    {"&store { compatible = \"harbour,mx66l1g45g\"; partitions { compatible = "
     "\"fixed-partitions\"; #address-cells = <1>; #size-cells = <1>;\n"
     "partition@0 { reg = <0 0x8000000>; }; }; };",
     NULL, NULL},
    {"&store { compatible = \"harbour,n25q032a\"; partitions { compatible = \"fixed-partitions\"; "
     "#address-cells = <1>; #size-cells = <1>;\n"
     "partition@0 { reg = <0 0x400001>; }; }; };",
     "store@0 has 4 MiB", NULL},
};

static char *workspace;

static void start(const char *name, const char *when) {
    workspace = test_folder(name);
    write_text(path_in(workspace, "mosaicum.yaml"),
               "mosaicum: 1\nworkspace: saltmarsh-survey\noutside: [tree/jetty.dts]\n");
    char text[600];
    snprintf(text, sizeof text,
             "mosaicum: 1\nboard: curlew\nhardware: {cpu: arm64, ram: {main: {start: 0x80000000, "
             "sizes: [256 MiB]}}}\ntree: {blobs: {main: {base: tree/jetty.dts}}, overlays: {ours: "
             "{file: tree/our.dtso%s}}}\n",
             when);
    write_text(path_in(workspace, "boards/curlew.yaml"), text);
    write_text(path_in(workspace, "tree/jetty.dts"), base);
}

/* blob: the overlay goes to the board as one. */
static void look_at(size_t i, bool blob) {
    char text[1000];
    snprintf(text, sizeof text, "/dts-v1/;\n/plugin/;\n%s\n", rows[i].overlay);
    write_text(path_in(workspace, "tree/our.dtso"), text);
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, workspace);
    bool good = o.status == 0 && !strstr(o.out, "tree.");
    if (blob && rows[i].needs_base)
        good = o.status == 1 && strstr(o.out, "is the path of uart1, which only the tree");
    else if (rows[i].says)
        good = strstr(o.out, rows[i].says) && strstr(o.out, "tree/our.dtso:") &&
               (!rows[i].clash || strstr(o.out, rows[i].clash));
    CU_ASSERT_TRUE(good);
    if (!good)
        fprintf(stderr, "%s\n%s%s", rows[i].overlay, o.out, o.err);
    outcome_free(&o);
}

static void overlays_of_ours_are_read(void) {
    start("claims", "");
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        look_at(i, false);
}

/* An overlay that is a blob has no lines: it is named, and what clashes is no less told. */
static void overlays_that_are_blobs_too(void) {
    start("claims-blobs", "");
    CU_ASSERT(runs(0, "sed -i 's/our.dtso/our.dtbo/' '%s/boards/curlew.yaml'", workspace));
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        char text[1000];
        snprintf(text, sizeof text, "/dts-v1/;\n/plugin/;\n%s\n", rows[i].overlay);
        write_text(path_in(workspace, "tree/our.dtso"), text);
        struct outcome o = run_shell("cd '%s/tree' && rm -f our.dtbo && '%s' tree compile our.dtso "
                                     "--keep-labels -q -o our.dtbo && '%s' --no-cache -w .. check",
                                     workspace, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
        if (rows[i].needs_base) {
            CU_ASSERT(o.status && strstr(o.err, "is the path of uart1, which only the tree"));
            outcome_free(&o);
            continue;
        }
        bool good = rows[i].says ? strstr(o.out, "tree.") && strstr(o.out, "our.dtbo")
                                 : o.status == 0 && !strstr(o.out, "tree.");
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%s\n%s%s", rows[i].overlay, o.out, o.err);
        outcome_free(&o);
    }
}

static void overlays_of_the_boot_too(void) {
    start("claims-boot", ", when: boot");
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        look_at(i, true);
}

/* Parts, numbers and addresses that the definition states, against a tree of two cards. */
static void what_is_stated_of_parts(void) {
    static const struct {
        const char *tree, *board, *says; /* tree: sed's words; board: lines; says NULL: nothing */
    } lines[] = {
        {"s/x/x/", "hardware: {unfitted: {depth: /depth@4030000}}",
         "/depth@4030000 is switched on"},
        {"s/okay/fail/", "hardware: {unfitted: {depth: /depth@4030000}}", NULL},
        {"s/okay/disabled/", "hardware: {unfitted: {depth: depth0}}",
         "The tree has no node depth0, and depth is said not to be fitted."},
        {"s/okay/disabled/", /* an overlay that the loader may apply, or leave */
         "hardware: {unfitted: {depth: /depth@4030000}}\ntree: {overlays: {on: {file: "
         "tree/on.dtso, when: boot}}}",
         "tree/on.dtso:3"},
        {"s/x/x/", "loader: {environments: {main: {values: {ethaddr: \"02:00:5e:00:00:01\"}}}}",
         "The loader has ethaddr, and the tree no alias ethernet0."},
        {"s/mmc0 = /ethernet0 = \"\\/depth@4030000\"; mmc0 = /",
         "loader: {environments: {main: {values: {ethaddr: \"02:00:5e:00:00:01\"}}}}", NULL},
    };
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++) {
        const char *w = test_folder("stated");
        CU_ASSERT(runs(0,
                       "cp -r tests/rules/tree.not-fitted/fails/. '%s' && cd '%s' && mkdir traits "
                       "&& sed -i '/unfitted/d; s/^board: curlew/&\\ntraits: [more]/' "
                       "boards/curlew.yaml && sed -i '%s' tree/curlew.dts",
                       w, w, lines[i].tree));
        char text[600];
        snprintf(text, sizeof text, "mosaicum: 1\ntrait: more\n%s\n", lines[i].board);
        write_text(path_in(w, "traits/more.yaml"), text);
        write_text(path_in(w, "tree/on.dtso"),
                   "/dts-v1/;\n/plugin/;\n&{/depth@4030000} { status = \"okay\"; };\n");
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        bool good = lines[i].says ? strstr(o.out, lines[i].says) != NULL : !strstr(o.out, "tree.");
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%zu:\n%s%s", i, o.out, o.err);
        outcome_free(&o);
    }
}

SUITE(claims_suite, {"overlays of ours are read", overlays_of_ours_are_read},
      {"what is stated of parts", what_is_stated_of_parts},
      {"overlays of the boot, too", overlays_of_the_boot_too},
      {"overlays that are blobs, too", overlays_that_are_blobs_too});
