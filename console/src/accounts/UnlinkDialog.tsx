import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type Account, api, data, Failure } from '../api/client'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { when } from '../ui/format'
import { Failed } from '../ui/Banner'

export function UnlinkDialog({ account, onClose, onDone }: { account: Account; onClose: () => void; onDone?: () => void }) {
  const client = useQueryClient()
  const unlink = useMutation({
    mutationFn: (anyway: boolean) => data(api.DELETE('/api/v1/accounts/{name}', { params: { path: { name: account.name }, query: anyway ? { anyway } : {} } })),
    onSuccess: () => {
      void client.invalidateQueries()
      onClose()
      onDone?.()
    },
  })
  const used = unlink.error instanceof Failure && unlink.error.problem.cause === 'used-by-jobs'
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Unlink ${account.address}?`}
      description={`Nothing at the provider is deleted. The secret is deleted here. The record of copies is kept for 90 days, in case you link the same storage again. The settings stay in the history. It was linked ${when(account.linked)}.`}
    >
      <div className="grid gap-4">
        {unlink.isError && <Failed error={unlink.error} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Keep it</Button>
          <Button look="danger" disabled={unlink.isPending} onClick={() => unlink.mutate(used)}>
            Unlink {account.name} {used && 'anyway'}
          </Button>
        </div>
      </div>
    </Dialog>
  )
}
