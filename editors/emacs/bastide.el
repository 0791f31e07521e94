;;; bastide.el --- Access rules while they are written  -*- lexical-binding: t; -*-

;; Starts `bastide editor' by way of Eglot, which comes with Emacs 29.
;; Put this file where Emacs looks, and write (require 'bastide) into your configuration.

;;; Code:

(defvar bastide-mode-words
  '("kind" "action" "type" "attribute" "role" "group" "rule" "apart" "alike" "persona" "waive" "expect" "guarantee"
    "because" "layer" "who" "may" "what" "while" "where" "from" "until" "can" "cannot" "reaches" "session" "has"
    "not" "always" "never" "only" "and" "or" "in" "under" "below" "at" "members" "member" "of" "needs" "on"))

;;;###autoload
(define-derived-mode bastide-mode prog-mode "Bastide"
  "For policy files of Bastide."
  (setq-local comment-start "# ")
  (modify-syntax-entry ?# "<" bastide-mode-syntax-table)
  (modify-syntax-entry ?\n ">" bastide-mode-syntax-table)
  (modify-syntax-entry ?- "w" bastide-mode-syntax-table)
  (setq-local font-lock-defaults `((,(regexp-opt bastide-mode-words 'words)))))

;;;###autoload
(add-to-list 'auto-mode-alist '("\\.bastide\\'" . bastide-mode))

(with-eval-after-load 'eglot
  (add-to-list 'eglot-server-programs '(bastide-mode . ("bastide" "editor"))))

(add-hook 'bastide-mode-hook #'eglot-ensure)

(provide 'bastide)
;;; bastide.el ends here
