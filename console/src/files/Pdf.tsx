import { GlobalWorkerOptions, getDocument, type PDFDocumentProxy } from 'pdfjs-dist'
import workerUrl from 'pdfjs-dist/build/pdf.worker.min.mjs?url'
import { useEffect, useRef, useState } from 'react'
import { Button } from '../ui/Button'

GlobalWorkerOptions.workerSrc = workerUrl

/** A PDF, page by page, of which only the ranges that are shown are fetched. */
export default function Pdf({ address, onError }: { address: string; onError: () => void }) {
  const [document, setDocument] = useState<PDFDocumentProxy>()
  const [number, setNumber] = useState(1)
  const canvas = useRef<HTMLCanvasElement>(null)
  const box = useRef<HTMLDivElement>(null)
  useEffect(() => {
    // No code of a document is run, and no fonts are put into the page by style sheets.
    const task = getDocument({ url: address, disableFontFace: true, isEvalSupported: false, useWasm: false, disableAutoFetch: true, disableStream: true })
    task.promise.then(setDocument, () => task.destroyed || onError())
    return () => void task.destroy()
  }, [address, onError])
  useEffect(() => {
    const at = canvas.current
    const width = box.current?.clientWidth ?? 800
    if (!document || !at) return
    let gone = false
    let stop = () => {}
    void document.getPage(number).then((page) => {
      if (gone) return
      const plain = page.getViewport({ scale: 1 })
      const viewport = page.getViewport({ scale: Math.min(2, (width - 48) / plain.width) * window.devicePixelRatio })
      at.width = viewport.width
      at.height = viewport.height
      const drawing = page.render({ canvas: at, viewport })
      stop = () => drawing.cancel()
      drawing.promise.then(
        () => at.setAttribute('data-drawn', String(number)),
        () => {}, // another page was asked for
      )
    }, onError)
    return () => {
      gone = true
      stop()
    }
  }, [document, number, onError])
  const pages = document?.numPages ?? 0
  return (
    <div ref={box} className="flex h-full w-full flex-col items-center overflow-auto" tabIndex={0} role="document" aria-label="Pages">
      <div className="sticky top-0 z-10 flex w-full items-center justify-center gap-3 border-b border-line bg-panel py-1 text-small">
        <Button look="quiet" disabled={number <= 1} onClick={() => setNumber(number - 1)}>
          Page before
        </Button>
        <span role="status">{pages ? `Page ${number} of ${pages}` : 'Opening…'}</span>
        <Button look="quiet" disabled={number >= pages} onClick={() => setNumber(number + 1)}>
          Next page
        </Button>
      </div>
      <canvas ref={canvas} className="my-4 max-w-full shadow-lg" aria-label={`Page ${number}`} role="img" />
    </div>
  )
}
