// Package watch says who hears what of the decisions that are made: alerts, when too many of a kind come
// together, and digests, when their hour has come. A book's section `watch` is a [Scheme].
//
// Package watch/lookout is told of decisions and of the time, and answers with what is to be told; package
// watch/letter words that, and package watch/post sends it. Package watch/trial says what would have been
// told of a history.
package watch
