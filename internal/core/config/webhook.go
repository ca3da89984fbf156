package config

import (
	"regexp"
	"strings"
)

// The path of a webhook's URL is what lets one post there: a secret. It is left out
// wherever a configuration is shown, and put back where what was shown is written again.

// hiddenPath stands for the path of a webhook.
const hiddenPath = "/(hidden)"

var webhookLine = regexp.MustCompile(`(\bwebhook"?:?\s*["']?)(https?://[^/\s"'},]+)(/[^\s"'},]*)`)

// HideWebhooks leaves out the paths of webhooks in a text.
func HideWebhooks(text string) string {
	if !strings.Contains(text, "webhook") {
		return text
	}
	return webhookLine.ReplaceAllString(text, "${1}${2}"+hiddenPath)
}

// HideWebhook is a webhook's URL without its path.
func HideWebhook(url string) string {
	scheme, rest, ok := strings.Cut(url, "://")
	if host, _, more := strings.Cut(rest, "/"); ok && more {
		return scheme + "://" + host + hiddenPath
	}
	return url
}

// RestoreWebhooks puts back the paths that were left out, as texts that are on record
// have them for the same host.
func RestoreWebhooks(text string, known ...string) string {
	if !strings.Contains(text, hiddenPath) {
		return text
	}
	paths := map[string]string{}
	for _, k := range known {
		for _, m := range webhookLine.FindAllStringSubmatch(k, -1) {
			if m[3] != hiddenPath {
				paths[m[2]] = m[3]
			}
		}
	}
	return webhookLine.ReplaceAllStringFunc(text, func(line string) string {
		m := webhookLine.FindStringSubmatch(line)
		if path, ok := paths[m[2]]; ok && m[3] == hiddenPath {
			return m[1] + m[2] + path
		}
		return line
	})
}
