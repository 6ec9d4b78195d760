package privatecopy

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/phrase"
	"wetland/core/site/phppool"
)

// php is the command of PHP as the copy's pages get it: with the settings of the site's own pool where that
// could be asked, else with those that the machine has for one. Those of the command line bound nothing.
func (b *bringing) php(program string) []string {
	command := []string{program}
	switch settings, scanned := b.machine.PHPSettings, b.machine.PHPScanned; {
	case settings != "":
		command = []string{"env", "PHP_INI_SCAN_DIR=" + scanned, program, "-c", settings}
	case scanned != "":
		command = []string{"env", "PHP_INI_SCAN_DIR=" + scanned, program}
	}
	set := func(name, value string) { command = append(command, "-d", name+"="+value) }
	if b.Options.PHP != nil {
		for _, name := range behaviour {
			if value, ok := b.Options.PHP.Settings[name].(string); ok && !strings.ContainsAny(value, "\n\x00") {
				set(name, quoteSetting(value))
			}
		}
	}
	// It keeps compiled code as the site does, and looks for new files at each request.
	set("opcache.validate_timestamps", "1")
	set("opcache.revalidate_freq", "0")
	set("opcache.file_update_protection", "0")
	if b.phpSocket != "" {
		set("mysqli.default_socket", quoteSetting(b.phpSocket))
		set("pdo_mysql.default_socket", quoteSetting(b.phpSocket))
	}
	set("sendmail_path", "true") // nothing is sent, and the site does not notice
	if log := b.Of.Config.Site.PHPLog; log != "" {
		set("log_errors", "1")
		set("error_log", quoteSetting(filepath.ToSlash(log)))
	}
	return command
}

// quoteSetting keeps PHP from reading anything into a value.
func quoteSetting(value string) string {
	if strings.Trim(value, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._/-") == "" {
		return value
	}
	return `"` + strings.ReplaceAll(value, `"`, `\"`) + `"`
}

// behaviour are the settings of PHP by which the same code can answer otherwise. Places and addresses are
// not among them: a copy has its own.
var behaviour = []string{
	"memory_limit", "max_execution_time", "max_input_vars", "post_max_size", "upload_max_filesize", "file_uploads", "display_errors", "error_reporting", "html_errors",
	"short_open_tag", "default_charset", "date.timezone", "output_buffering", "implicit_flush", "zlib.output_compression", "allow_url_fopen", "disable_functions", "disable_classes",
	"arg_separator.output", "precision", "serialize_precision", "variables_order", "request_order", "auto_detect_line_endings", "mbstring.language", "mbstring.substitute_character",
	"pcre.backtrack_limit", "pcre.recursion_limit", "pcre.jit", "zend.assertions", "session.use_strict_mode", "session.cookie_httponly", "session.cookie_samesite", "session.auto_start",
	"opcache.enable", "opcache.memory_consumption", "opcache.interned_strings_buffer", "opcache.max_accelerated_files", "opcache.save_comments",
}

// tellSelf has PHP say which it is.
const tellSelf = `echo json_encode( array( 'version' => PHP_VERSION, 'modules' => get_loaded_extensions() ) );`

// ofServers are modules that are a matter of how PHP is run.
var ofServers = []string{"cgi-fcgi", "cli_server", "apache2handler", "litespeed", "readline", "pcntl"}

// comparePHP holds the copy's PHP against the site's.
func (b *bringing) comparePHP(ctx context.Context, php []string) error {
	said, err := b.host.Run(ctx, php[0], slices.Concat(php[1:], []string{"-r", tellSelf})...)
	if err != nil {
		return err
	}
	var own phppool.About
	if err := json.Unmarshal([]byte(said[max(0, strings.Index(said, "{")):]), &own); err != nil {
		return fmt.Errorf("ask PHP which it is: %w", err)
	}
	b.Copy.PHP = own.Version
	if b.Options.PHP == nil {
		return nil
	}
	var missing []string
	for _, module := range b.Options.PHP.Modules {
		has := func(other string) bool { return strings.EqualFold(module, other) }
		if !slices.ContainsFunc(own.Modules, has) && !slices.ContainsFunc(ofServers, has) {
			missing = append(missing, module)
		}
	}
	if len(missing) > 0 {
		b.differs("its PHP lacks what the site's has: " + phrase.List(missing, 6))
	}
	return nil
}
