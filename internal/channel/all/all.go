// Package all registers every channel.
package all

import (
	_ "woodlark.example/internal/channel/mail"
	_ "woodlark.example/internal/channel/syslog"
	_ "woodlark.example/internal/channel/webhook"
)
