static const struct of_device_id gauges[] = {
	{ .compatible = "saltmarsh,gauge" },
	{}
};
