package engine

import (
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
)

// device defines a key about devices. The facts that it hands on have a Device.
func device(d condition.Definition, holds func(f *Facts, t *condition.Test) condition.Truth,
	saw func(f *Facts, t *condition.Test) string) condition.Key {
	d.About, d.Explored = condition.AboutAttempt, condition.ExploredByDevice
	if d.Meaning == 0 {
		d.Meaning = condition.MeansWords
	}
	return keys.Define(d, func(f *Facts, t *condition.Test) condition.Truth {
		if f.findDevice() != nil {
			return holds(f, t)
		}
		return condition.Unknown
	}, func(f *Facts, t *condition.Test) string {
		if f.findDevice() != nil {
			return saw(f, t)
		}
		return ""
	})
}

// The keys about devices.
var (
	KeyPlatforms = device(condition.Definition{Name: "platforms",
		Doc:  "the platform of the device, such as windows or ios",
		Bind: bindText,
		Says: func(t *condition.Test, negated bool) string {
			return "the device " + condition.Either(negated, "runs ", "does not run ") + t.Wants()
		},
	}, func(f *Facts, t *condition.Test) condition.Truth {
		name, known := f.Device.Platform()
		if !known {
			return condition.Unknown
		}
		return condition.Of(slices.Contains(t.Values, name))
	}, func(f *Facts, _ *condition.Test) string {
		name, _ := f.Device.Platform()
		return name
	})

	KeyDevice = device(condition.Definition{Name: "device", Words: deviceTraits,
		Doc:  "the device is known, managed, shared or the account's own",
		Bind: bindWord(func(value string) (deviceTrait, error) { var d deviceTrait; return d, d.UnmarshalText([]byte(value)) }),
		Says: func(t *condition.Test, negated bool) string {
			values := slices.Clone(t.Values)
			for i := range values {
				if values[i] == "own" {
					values[i] = "their own"
				}
			}
			return "the device " + is(negated) + " " + strings.Join(values, " or ")
		},
	}, func(f *Facts, t *condition.Test) condition.Truth {
		holds := condition.False
		for _, n := range t.Numbers() {
			holds = max(holds, f.Device.is(deviceTrait(n), f.accountName()))
		}
		return holds
	}, func(f *Facts, _ *condition.Test) string {
		return f.Device.sawTraits(f.accountName())
	})

	KeyDeviceTags = device(condition.Definition{Name: "device_tags", Doc: "the device bears a tag",
		Bind: bindText,
		Says: func(t *condition.Test, negated bool) string {
			return "the device " + is(negated) + " tagged " + t.Wants()
		},
	}, func(f *Facts, t *condition.Test) condition.Truth {
		tags, known := f.Device.bears()
		if !known {
			return condition.Unknown
		}
		return condition.Of(slices.ContainsFunc(tags, func(tag string) bool { return slices.Contains(t.Values, tag) }))
	}, func(f *Facts, _ *condition.Test) string {
		if tags, known := f.Device.bears(); known {
			return orNone(tags, "no tag")
		}
		return ""
	})

	KeyPosture = device(condition.Definition{Name: "posture", Doc: "the device passes a posture",
		Names: "posture", Meaning: condition.MeansDefinitions,
		Bind: bindName("posture", func(d *Directory) map[string]int32 { return d.postureNumber }),
		Says: func(t *condition.Test, negated bool) string {
			return "the device " + condition.Either(negated, "passes ", "does not pass ") + t.Wants()
		},
	}, func(f *Facts, t *condition.Test) condition.Truth {
		holds := condition.False
		for _, n := range t.Numbers() {
			holds = max(holds, f.Device.passesPosture(&f.Directory.Postures[n]))
		}
		return holds
	}, func(f *Facts, t *condition.Test) string { return f.Directory.sawPosture(f.Device, t) })
)
