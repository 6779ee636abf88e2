package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/pflag"

	"ostiarius/core/message"
	"ostiarius/service"
	"ostiarius/service/keep/mail"
)

// notices are what owners of an account can be told, by the words of the flag.
var notices = map[string]message.Kind{"password": message.PasswordChanged, "address": message.AddressChanged, "sign-in": message.SignedIn}

// mailFlags adds the flags that say where messages are handed to, and returns what brings them into the settings.
func mailFlags(flags *pflag.FlagSet) func(*service.Settings) error {
	server := flags.String("mail", "", "mail server that sends messages: smtp://user@host:587, or smtps:// for TLS from the beginning")
	from := flags.String("mail-from", "", "sender of messages, such as \"Lighthouse <door@marram.example>\"")
	file := flags.String("mail-password-file", "", "file with the password for the mail server; or set OSTIARIUS_MAIL_PASSWORD")
	most := flags.Int("mail-per-minute", 300, "maximum number of messages per minute; 0 for no limit")
	about := flags.StringSlice("mail-notices", []string{"password", "address"}, "changes that owners of an account are informed of by "+
		"e-mail: password, address, sign-in (from a new browser); none")
	return func(settings *service.Settings) error {
		settings.MailNotices = map[message.Kind]bool{}
		for _, what := range *about {
			kind, known := notices[what]
			if !known && what != "none" {
				return errUsage{fmt.Errorf("--mail-notices %s is unknown; use password, address, sign-in or none", what)}
			}
			settings.MailNotices[kind] = true
		}
		if *most < 0 {
			return errUsage{errors.New("--mail-per-minute must not be negative")}
		}
		settings.MailPerMinute = *most
		if *server == "" {
			if *from != "" || *file != "" {
				return errUsage{errors.New("--mail-from and --mail-password-file need --mail")}
			}
			return nil
		}
		password := os.Getenv("OSTIARIUS_MAIL_PASSWORD")
		if *file != "" {
			text, err := os.ReadFile(*file)
			if err != nil {
				return fmt.Errorf("--mail-password-file can't be read: %w", err)
			}
			password = strings.TrimRight(string(text), "\r\n")
			settings.Private = append(settings.Private, *file)
		}
		var err error
		if settings.Mail, err = mail.ReadServer(*server, *from, password); err != nil {
			return errUsage{err}
		}
		return nil
	}
}
