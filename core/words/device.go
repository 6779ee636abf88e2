package words

import "strings"

// Device makes of a browser's own words about itself (the field User-Agent) what people recognise: the browser and the
// system.
func (s Set) Device(in Language, agent string) string {
	find := func(pairs ...string) string {
		for i := 0; i < len(pairs); i += 2 {
			if strings.Contains(agent, pairs[i]) {
				return pairs[i+1]
			}
		}
		return ""
	}
	browser := find("Edg/", "Edge", "OPR/", "Opera", "Firefox/", "Firefox", "Chrome/", "Chrome", "Safari/", "Safari", "curl/", "curl")
	system := find("Android", "Android", "iPhone", "iPhone", "iPad", "iPad", "Windows", "Windows", "Mac OS",
		s.Say(in, "device.mac", nil), "CrOS", "ChromeOS", "Linux", "Linux")
	switch {
	case browser != "" && system != "":
		return s.Say(in, "device.on", map[string]string{"browser": browser, "system": system})
	case browser+system != "":
		return browser + system
	case agent == "":
		return s.Say(in, "device.unknown", nil)
	}
	if len(agent) > 60 {
		agent = agent[:60]
	}
	return strings.ToValidUTF8(agent, "")
}
