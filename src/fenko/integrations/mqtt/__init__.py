"""MQTT brokers: messages that are published."""
